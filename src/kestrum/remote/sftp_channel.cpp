#include "kestrum/remote/sftp_channel.h"

#include <algorithm>

namespace kestrum {
namespace {

// Bytes. libssh lets the server send ahead what is asked for at a time.
constexpr std::size_t kUsualRoom = 64 << 10, kWideRoom = 4 << 20;
constexpr std::uint64_t kWidenAfter = 1 << 20;
constexpr std::size_t kSentAtATime = 1 << 20;

}  // namespace

SftpChannel::SftpChannel(SshConnection& connection)
    : connection_(connection), channel_(ssh_channel_new(connection.session()), ssh_channel_free) {
  if (!channel_) connection_.broke();
  room_ = std::make_unique_for_overwrite<std::uint8_t[]>(kUsualRoom);
  ssh_callbacks_init(&calls_);
  calls_.userdata = this;
  calls_.channel_data_function = take_in;
  ssh_set_channel_callbacks(channel_.get(), &calls_);
}

SftpChannel::~SftpChannel() {
  ssh_remove_channel_callbacks(channel_.get(), &calls_);
}

SftpChannel::State SftpChannel::go_on() {
  if (step_ == Step::kSession || step_ == Step::kSubsystem) {
    int answer = step_ == Step::kSession ? ssh_channel_open_session(channel_.get())
                                         : ssh_channel_request_subsystem(channel_.get(), "sftp");
    if (answer == SSH_AGAIN) return State::kOpening;
    if (answer != SSH_OK) {
      if (!connection_.is_connected()) connection_.broke();
      step_ = Step::kRefused;
    } else if (step_ == Step::kSession) {
      step_ = Step::kSubsystem;
      return go_on();
    } else {
      step_ = Step::kVersion;
      begin_packet(sftp::Type::kInit, sftp::kVersionSpoken);
      end_packet();
    }
  }
  if (step_ == Step::kVersion) {
    move();
    understand();
  }
  if (step_ == Step::kRefused) return State::kRefused;
  return step_ == Step::kDone ? State::kOpen : State::kOpening;
}

SftpChannel::Id SftpChannel::begin_packet(sftp::Type type, Id id) {
  packet_at_ = out_.size();
  out_.resize(packet_at_ + sftp::kHead);
  out_[packet_at_ + 4] = static_cast<std::uint8_t>(type);
  sftp::put_big_endian(out_.data() + packet_at_ + 5, id);
  return id;
}

void SftpChannel::end_packet() {
  sftp::put_big_endian(out_.data() + packet_at_,
                       static_cast<std::uint32_t>(out_.size() - packet_at_ - 4));
}

SftpChannel::Id SftpChannel::ask(sftp::Type type, const sftp::Body& body) {
  Id id = begin_packet(type, ++last_);
  out_.insert(out_.end(), body.bytes().begin(), body.bytes().end());
  end_packet();
  asked_.emplace(id, std::nullopt);
  return id;
}

void SftpChannel::tell(sftp::Type type, const sftp::Body& body) {
  forget(ask(type, body));
}

std::pair<SftpChannel::Id, std::size_t> SftpChannel::ask_to_write(const std::string& handle,
                                                                  std::uint64_t offset,
                                                                  std::size_t most,
                                                                  const Fill& fill) {
  sftp::Body body;
  body.text(handle).long_number(offset).number(0);
  Id id = begin_packet(sftp::Type::kWrite, last_ + 1);
  out_.insert(out_.end(), body.bytes().begin(), body.bytes().end());
  std::size_t at = out_.size(), filled = 0;
  out_.resize(at + most);
  try {
    filled = fill(std::span(out_).subspan(at, most));
  } catch (...) {
    out_.resize(packet_at_);
    throw;
  }
  if (filled == 0) {
    out_.resize(packet_at_);
    return {0, 0};
  }
  out_.resize(at + filled);
  sftp::put_big_endian(out_.data() + at - 4, static_cast<std::uint32_t>(filled));
  end_packet();
  last_ = id;
  asked_.emplace(id, std::nullopt);
  return {id, filled};
}

std::optional<SftpChannel::Answer> SftpChannel::take(Id id) {
  understand();
  auto asked = asked_.find(id);
  if (asked == asked_.end() || !asked->second) return std::nullopt;
  std::optional<Answer> answer = std::move(asked->second);
  asked_.erase(asked);
  return answer;
}

void SftpChannel::forget(Id id) {
  auto asked = asked_.find(id);
  if (asked == asked_.end()) return;
  if (!asked->second) unwanted_.insert(id);
  asked_.erase(asked);
}

void SftpChannel::move() {
  if (step_ != Step::kVersion && step_ != Step::kDone) return;
  send();
  receive();
}

void SftpChannel::send() {
  while (unsent() > 0) {
    auto some = static_cast<std::uint32_t>(std::min(unsent(), kSentAtATime));
    int taken = ssh_channel_write(channel_.get(), out_.data() + sent_, some);
    if (taken < 0 && taken != SSH_AGAIN) connection_.broke();
    if (taken <= 0) break;
    sent_ += static_cast<std::size_t>(taken);
    moved_ += static_cast<std::size_t>(taken);
  }
  if (unsent() == 0) {
    out_.clear();
    sent_ = 0;
  } else if (sent_ > out_.size() / 2) {
    out_.erase(out_.begin(), out_.begin() + static_cast<std::ptrdiff_t>(sent_));
    sent_ = 0;
  }
}

void SftpChannel::widen() {
  if (wide_) return;
  wide_ = true;
  widened_at_ = received_ - std::min<std::uint64_t>(received_, kWidenAfter);
  room_ = std::make_unique_for_overwrite<std::uint8_t[]>(kWideRoom);
}

// libssh hands on what comes, for all channels, when it is asked for what came; and lets the server
// send ahead as much as it is asked for.
void SftpChannel::receive() {
  bool widens = wide_ && received_ - widened_at_ >= kWidenAfter;
  if (widens) widened_at_ = received_;
  int got =
      ssh_channel_read_timeout(channel_.get(), room_.get(),
                               static_cast<std::uint32_t>(widens ? kWideRoom : kUsualRoom), 0, 0);
  if (got < 0 && got != SSH_AGAIN) connection_.broke();
  if (got > 0) take_in(nullptr, nullptr, room_.get(), static_cast<std::uint32_t>(got), 0, this);
  if (ssh_channel_is_eof(channel_.get()) != 0) connection_.broke("the server ended it");
}

int SftpChannel::take_in(ssh_session, ssh_channel, void* data, std::uint32_t length, int of_errors,
                         void* channel) noexcept {
  auto& self = *static_cast<SftpChannel*>(channel);
  const auto* bytes = static_cast<const std::uint8_t*>(data);
  if (of_errors == 0) self.in_.insert(self.in_.end(), bytes, bytes + length);
  self.received_ += length;
  self.moved_ += length;
  return static_cast<int>(length);
}

void SftpChannel::understand() {
  std::size_t at = 0;
  while (in_.size() - at >= 4) {
    std::size_t length = sftp::big_endian(ByteView(in_).subspan(at));
    if (length < sftp::kHead - 4 || length > sftp::kLongestPacket) connection_.garbled();
    if (in_.size() - at - 4 < length) break;
    understand_packet(ByteView(in_).subspan(at + 4, length));
    at += 4 + length;
  }
  if (at > 0) in_.erase(in_.begin(), in_.begin() + static_cast<std::ptrdiff_t>(at));
}

void SftpChannel::understand_packet(ByteView packet) {
  auto type = static_cast<sftp::Type>(packet[0]);
  Id id = sftp::big_endian(packet.subspan(1));
  ByteView body = packet.subspan(5);
  if (step_ == Step::kVersion) {
    auto extensions = sftp::extensions_of(id, body);
    if (type != sftp::Type::kVersion || !extensions) connection_.garbled();
    extensions_ = std::move(*extensions);
    step_ = Step::kDone;
    return;
  }
  if (unwanted_.erase(id) > 0) return;
  auto asked = asked_.find(id);
  if (asked == asked_.end() || asked->second) connection_.garbled();
  asked->second = Answer{type, Bytes(body.begin(), body.end())};
}

}  // namespace kestrum
