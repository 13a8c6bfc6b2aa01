// One stream of the SSH file transfer protocol on a connection: requests are sent and answers come,
// in any order, as many at a time as one likes.
#pragma once

#include <libssh/callbacks.h>
#include <libssh/libssh.h>

#include <functional>
#include <memory>
#include <optional>
#include <set>
#include <span>
#include <string>
#include <unordered_map>
#include <utility>

#include "kestrum/base/bytes.h"
#include "kestrum/remote/sftp_wire.h"
#include "kestrum/remote/ssh_connection.h"

namespace kestrum {

// What breaks, or cannot be understood, throws BrokenConnection. Nothing here waits.
class SftpChannel {
 public:
  // `connection` outlives it.
  explicit SftpChannel(SshConnection& connection);
  ~SftpChannel();
  SftpChannel(const SftpChannel&) = delete;

  enum class State { kOpening, kOpen, kRefused };
  // Goes on with opening it, as far as that is possible without waiting.
  State go_on();

  using Id = std::uint32_t;
  struct Answer {
    sftp::Type type;
    Bytes body;
  };
  Id ask(sftp::Type type, const sftp::Body& body);
  // Asks, and does not want to know.
  void tell(sftp::Type type, const sftp::Body& body);
  // Asks to write what `fill` gives, of at most so many bytes; nothing is asked where it gives 0.
  // Throws what `fill` throws; then nothing was asked.
  using Fill = std::function<std::size_t(std::span<std::uint8_t>)>;
  std::pair<Id, std::size_t> ask_to_write(const std::string& handle, std::uint64_t offset,
                                          std::size_t most, const Fill& fill);
  // Once it has come; it is given once.
  std::optional<Answer> take(Id id);
  // What was asked is not wanted any more.
  void forget(Id id);

  // Sends what waits to be sent and takes what has come, as far as that is possible. What comes for
  // another channel of the connection goes there.
  void move();
  std::uint64_t moved() const { return moved_; }  // bytes so far, in both directions
  // That much is going to be read, so that the server should send ahead.
  void widen();
  std::size_t unsent() const { return out_.size() - sent_; }  // bytes

  // Whether the server said that it can do this, such as "fsync@openssh.com".
  bool offers(const std::string& extension) const { return extensions_.contains(extension); }

 private:
  // What begins a packet; its length is put there by end_packet().
  Id begin_packet(sftp::Type type, Id id);
  void end_packet();
  static int take_in(ssh_session, ssh_channel, void* data, std::uint32_t length, int of_errors,
                     void* channel) noexcept;
  void send();
  void receive();
  void understand();
  void understand_packet(ByteView packet);

  SshConnection& connection_;
  std::unique_ptr<ssh_channel_struct, decltype(&ssh_channel_free)> channel_;
  enum class Step { kSession, kSubsystem, kVersion, kDone, kRefused };
  Step step_ = Step::kSession;
  std::set<std::string> extensions_;
  ssh_channel_callbacks_struct calls_{};
  Bytes out_, in_;  // packets to be sent, and what came and was not looked at
  std::size_t sent_ = 0, packet_at_ = 0;
  Id last_ = 0;
  std::unordered_map<Id, std::optional<Answer>> asked_;
  std::set<Id> unwanted_;
  std::uint64_t moved_ = 0, received_ = 0;
  // What libssh might give, which is nothing: its size is what the server may send ahead.
  std::unique_ptr<std::uint8_t[]> room_;
  std::uint64_t widened_at_ = 0;  // in what was received
  bool wide_ = false;
};

}  // namespace kestrum
