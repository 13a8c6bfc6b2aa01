#include "kestrum/remote/sftp_sender.h"

#include <libssh2_sftp.h>

#include <algorithm>
#include <cstring>
#include <utility>

#include "kestrum/base/error.h"

namespace kestrum {
namespace {

// Bytes. What servers let a client send ahead on a channel, and a little more.
constexpr std::size_t kSentAhead = SftpSender::kUnderWay / 2;
constexpr std::size_t kLaneBuffer = 3 << 20;
// Of one lane: what still fits into what it may send ahead. A little more waits for a round trip.
constexpr std::size_t kTurn = 2'000'000;
constexpr long kOwnFile = 0600;  // mode

// As libssh2 opens it; nullptr as it says.
LIBSSH2_SFTP_HANDLE* open_file(LIBSSH2_SFTP* sftp, const std::string& path, unsigned long flags) {
  return libssh2_sftp_open_ex(sftp, path.data(), static_cast<unsigned>(path.size()), flags,
                              kOwnFile, LIBSSH2_SFTP_OPENFILE);
}

}  // namespace

SftpSender::SftpSender(SftpSession& session, std::string path, std::uint64_t offset,
                       const Content& content)
    : session_(session),
      path_(std::move(path)),
      content_(content),
      offset_(offset),
      told_(offset) {}

SftpSender::~SftpSender() {
  for (Lane& lane : lanes_) {
    if (lane.handle != nullptr) session_.let_go(lane.handle);
  }
}

std::optional<unsigned long> SftpSender::run() {
  Lane& first = lanes_[0];
  unsigned long anew = offset_ == 0 ? LIBSSH2_FXF_TRUNC : 0;
  first.handle = session_.finished([&] {
    return open_file(session_.sftp(), path_, LIBSSH2_FXF_WRITE | LIBSSH2_FXF_CREAT | anew);
  });
  if (auto refused = session_.refusal(first.handle)) return refused;
  first.buffer.resize(kLaneBuffer);
  first.at = offset_;
  libssh2_sftp_seek64(first.handle, offset_);
  session_.begin_to_wait();
  // A packet that is half sent comes before all others.
  Lane* half_sent = nullptr;
  bool half_opened = false;
  while (!whole_ || !first.is_empty() || !lanes_[1].is_empty()) {
    if (half_opened) {
      open_second();
      half_opened = session_.is_half_sent();
      if (half_opened) session_.wait();
      continue;
    }
    fill();
    bool moved = false;
    for (Lane* lane : {half_sent == nullptr ? &turn() : half_sent, &lanes_[0], &lanes_[1]}) {
      if (lane->is_empty()) continue;
      if (auto refused = push(*lane, moved)) return refused;
      half_sent = session_.is_half_sent() ? lane : nullptr;
      if (half_sent != nullptr) break;
    }
    tell();
    if (half_sent == nullptr) {
      open_second();
      half_opened = session_.is_half_sent();
    }
    bool under_way = !first.is_empty() || !lanes_[1].is_empty();
    if (!moved && under_way) session_.wait();
  }
  return std::nullopt;
}

void SftpSender::fill() {
  if (whole_) return;
  take_turns();
  Lane& lane = turn();
  bool all_arrived = lane.is_empty() && other().is_empty();
  bool waits_for_nothing = all_arrived || !content_.ready || content_.ready();
  std::size_t under_way = lane.filled - lane.arrived;
  std::size_t ahead = second_ == Second::kThere ? kTurn : kSentAhead;
  if (!waits_for_nothing || under_way >= ahead) return;
  if (lane.filled == lane.buffer.size()) {
    std::memmove(lane.buffer.data(), lane.buffer.data() + lane.arrived, under_way);
    lane.filled = under_way;
    lane.arrived = 0;
  }
  std::size_t most = std::min(lane.buffer.size() - lane.filled, ahead - under_way);
  auto some = content_.fill(std::span(lane.buffer).subspan(lane.filled, most));
  if (!some) throw Error(ErrorKind::kStopped, "it was broken off");
  if (all_arrived) session_.begin_to_wait();  // nobody was asked anything while this waited
  whole_ = *some == 0;
  lane.filled += *some;
  lane.taken += *some;
  offset_ += *some;
}

void SftpSender::take_turns() {
  if (second_ != Second::kThere || turn().taken < kTurn || !other().is_empty()) return;
  turn_ = 1 - turn_;
  Lane& lane = turn();
  lane.arrived = lane.filled = 0;
  lane.taken = 0;
  lane.at = offset_;
  libssh2_sftp_seek64(lane.handle, offset_);
}

// Where as much came as one takes at a turn.
void SftpSender::open_second() {
  if (second_ != Second::kToOpen || turn().taken < kTurn) return;
  auto is_open = [&](auto* opened) {
    if (opened == nullptr && !session_.would_wait(opened)) second_ = Second::kRefused;
    return opened != nullptr;
  };
  if (channel_ == nullptr) channel_ = session_.second_channel();
  if (!is_open(channel_)) return;
  Lane& lane = lanes_[1];
  lane.handle = open_file(channel_, path_, LIBSSH2_FXF_WRITE);
  if (!is_open(lane.handle)) return;
  lane.buffer.resize(kLaneBuffer);
  second_ = Second::kThere;
}

// libssh2 is shown what has not arrived each time: what is new of it goes on its way.
std::optional<unsigned long> SftpSender::push(Lane& lane, bool& moved) {
  std::size_t shown = std::min(lane.filled - lane.arrived, kSentAhead);
  ssize_t taken = libssh2_sftp_write(
      lane.handle, reinterpret_cast<const char*>(lane.buffer.data()) + lane.arrived, shown);
  if (SftpSession::would_wait(taken)) return std::nullopt;
  if (auto refused = session_.refusal(taken, &lane == lanes_.data() ? nullptr : channel_)) {
    return refused;
  }
  lane.arrived += static_cast<std::size_t>(taken);
  lane.at += static_cast<std::size_t>(taken);
  moved |= taken > 0;
  return std::nullopt;
}

// Up to where nothing is missing: of both, what begins earlier.
void SftpSender::tell() {
  std::uint64_t until = offset_;
  for (const Lane& lane : lanes_) {
    if (!lane.is_empty()) until = std::min(until, lane.at);
  }
  if (until > told_ && content_.arrived) content_.arrived(until - told_);
  told_ = until;
}

std::optional<unsigned long> SftpSender::end(bool& syncs) {
  LIBSSH2_SFTP_HANDLE* handle = lanes_[0].handle;
  if (syncs) {
    auto refused = session_.refusal(session_.finished([&] { return libssh2_sftp_fsync(handle); }));
    // Nothing more is to be learned when it is closed.
    if (!refused || *refused != LIBSSH2_FX_OP_UNSUPPORTED) return refused;
    syncs = false;
  }
  lanes_[0].handle = nullptr;
  return session_.refusal(session_.finished([&] { return libssh2_sftp_close_handle(handle); }));
}

}  // namespace kestrum
