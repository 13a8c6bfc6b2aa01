#include "kestrum/remote/sftp_sender.h"

#include <algorithm>
#include <utility>

#include "kestrum/base/error.h"

namespace kestrum {
namespace {

// Bytes of a lane: what servers let a client send ahead on a channel, and a little more.
constexpr std::size_t kSentAhead = SftpSender::kUnderWay / 2;
constexpr std::size_t kUnsent = 256 << 10;  // bytes that wait for room on the way
constexpr std::uint32_t kOwnFile = 0600;    // mode
constexpr const char* kSync = "fsync@openssh.com";

sftp::Body to_open(const std::string& path, std::uint32_t how) {
  return std::move(sftp::Body().text(path).number(how).mode(kOwnFile));
}

}  // namespace

SftpSender::SftpSender(SftpSession& session, std::string path, std::uint64_t offset,
                       const Content& content)
    : session_(session), path_(std::move(path)), content_(content), offset_(offset), told_(offset) {
  lanes_[0].channel = &session_.channel();
}

SftpSender::~SftpSender() {
  for (const Lane& lane : lanes_) {
    if (!lane.handle.empty()) session_.let_go(lane.handle, *lane.channel);
  }
}

std::optional<std::uint32_t> SftpSender::run() {
  std::uint32_t anew = offset_ == 0 ? sftp::kToBeginAnew : 0;
  SftpSession::Opened opened =
      session_.open(sftp::Type::kOpen, to_open(path_, sftp::kToWrite | sftp::kToCreate | anew));
  if (opened.refused) return opened.refused;
  lanes_[0].handle = opened.handle;
  session_.begin_to_wait();
  while (!whole_ || !all_arrived()) {
    bool moved = fill();
    end();
    open_second();
    moved |= session_.move();
    for (Lane& lane : lanes_) {
      if (auto refused = collect(lane, moved)) return refused;
    }
    tell();
    if (!moved) session_.wait();
  }
  return finish();
}

// Where a piece may go now: by the way that has less on it.
SftpSender::Lane* SftpSender::free_lane() {
  Lane* best = nullptr;
  for (Lane& lane : lanes_) {
    bool may = !lane.handle.empty() && lane.bytes < kSentAhead && lane.channel->unsent() < kUnsent;
    if (may && (best == nullptr || lane.bytes < best->bytes)) best = &lane;
  }
  full_ |= lanes_[0].bytes >= kSentAhead;
  return best;
}

// Whether anything came, or the end.
bool SftpSender::fill() {
  bool filled = false;
  while (!whole_) {
    bool waits_for_nothing = all_arrived() || !content_.ready || content_.ready();
    Lane* lane = waits_for_nothing ? free_lane() : nullptr;
    if (lane == nullptr) break;
    bool waited = all_arrived();
    auto [id, length] =
        lane->channel->ask_to_write(lane->handle, offset_, sftp::kPiece, [&](auto room) {
          auto some = content_.fill(room);
          if (!some) throw Error(ErrorKind::kStopped, "it was broken off");
          return *some;
        });
    if (waited) session_.begin_to_wait();  // nobody was asked anything meanwhile
    filled = true;
    whole_ = length == 0;
    if (whole_) break;
    lane->under_way.push_back({id, offset_, length});
    lane->bytes += length;
    offset_ += length;
  }
  return filled;
}

// Behind all of it: at once, where all of it goes by the same channel.
void SftpSender::end() {
  if (!whole_ || close_ || !lanes_[1].under_way.empty()) return;
  Lane& lane = lanes_[0];
  if (lane.channel->offers(kSync)) {
    sync_ = lane.channel->ask(sftp::Type::kExtended, sftp::Body().text(kSync).text(lane.handle));
  }
  close_ = lane.channel->ask(sftp::Type::kClose, sftp::Body().text(lane.handle));
  lane.handle.clear();
}

// Where one is not enough.
void SftpSender::open_second() {
  Lane& lane = lanes_[1];
  if (second_ == Second::kToOpen && full_ && !whole_) {
    bool refused = false;
    lane.channel = session_.second_channel(refused);
    if (refused) second_ = Second::kRefused;
    if (lane.channel == nullptr) return;
    opening_ = lane.channel->ask(sftp::Type::kOpen, to_open(path_, sftp::kToWrite));
    second_ = Second::kOpening;
  }
  if (second_ != Second::kOpening) return;
  auto answer = lane.channel->take(opening_);
  if (!answer) return;
  SftpSession::Opened opened = session_.opened(*answer);
  lane.handle = opened.handle;
  second_ = opened.refused ? Second::kRefused : Second::kThere;
}

std::optional<std::uint32_t> SftpSender::collect(Lane& lane, bool& moved) {
  while (!lane.under_way.empty()) {
    auto answer = lane.channel->take(lane.under_way.front().id);
    if (!answer) break;
    if (auto refused = session_.refusal(*answer, sftp::Type::kStatus)) return refused;
    lane.bytes -= lane.under_way.front().length;
    lane.under_way.pop_front();
    moved = true;
  }
  return std::nullopt;
}

// Up to where nothing is missing: of both, what begins earlier.
void SftpSender::tell() {
  std::uint64_t until = offset_;
  for (const Lane& lane : lanes_) {
    if (!lane.under_way.empty()) until = std::min(until, lane.under_way.front().at);
  }
  if (until > told_ && content_.arrived) content_.arrived(until - told_);
  told_ = until;
}

std::optional<std::uint32_t> SftpSender::finish() {
  SftpChannel& channel = *lanes_[0].channel;
  end();
  if (second_ == Second::kOpening) {
    lanes_[1].handle = session_.opened(session_.answer(*lanes_[1].channel, opening_)).handle;
  }
  std::optional<std::uint32_t> refused;
  if (sync_) {
    refused = session_.refusal(session_.answer(channel, *sync_), sftp::Type::kStatus);
    // It said that it can; where it cannot after all, that is no harm to what it has.
    if (refused == sftp::kUnsupported) refused = std::nullopt;
  }
  auto of_close = session_.refusal(session_.answer(channel, *close_), sftp::Type::kStatus);
  return refused ? refused : of_close;
}

}  // namespace kestrum
