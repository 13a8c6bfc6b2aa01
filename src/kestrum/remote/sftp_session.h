// One connection to a server with its file transfer protocol (draft-ietf-secsh-filexfer-02, which
// servers call version 3).
#pragma once

#include <optional>
#include <string>

#include "kestrum/remote/sftp_channel.h"
#include "kestrum/remote/sftp_wire.h"
#include "kestrum/remote/ssh_access.h"
#include "kestrum/remote/ssh_connection.h"

namespace kestrum {

// Used by one thread at a time. All that waits throws BrokenConnection when the connection breaks
// or the server says nothing for minutes.
class SftpSession {
 public:
  // Throws what SshConnection does, and Error(kPlace) of a server that offers no files.
  explicit SftpSession(SshAccess& server);
  SftpSession(const SftpSession&) = delete;

  SftpChannel& channel() { return first_; }
  using Answer = SftpChannel::Answer;
  // Asks on the first channel, and waits.
  Answer call(sftp::Type type, const sftp::Body& body);
  // Waits for what was asked before.
  Answer answer(SftpChannel& channel, SftpChannel::Id id);

  // A handle of what is open then, or why not.
  struct Opened {
    std::string handle;
    std::optional<std::uint32_t> refused;  // SSH_FX_...
  };
  Opened open(sftp::Type type, const sftp::Body& body);
  Opened opened(const Answer& answer);
  // Closes a handle, whatever the server says of that, and does not wait for it.
  void let_go(const std::string& handle, SftpChannel& channel);

  // Why the server refused it, as SSH_FX_ number; nothing if it did not. Throws BrokenConnection
  // for an answer of neither this type nor the one that tells of a refusal.
  std::optional<std::uint32_t> refusal(const Answer& answer, sftp::Type expected);
  [[noreturn]] void garbled();

  // For who has several requests under way: sends and takes what it can, on all channels; and waits
  // until that may be more. begin_to_wait() comes before the first of a row.
  bool move();
  void begin_to_wait() { connection_.begin_to_wait(); }
  void wait() { connection_.wait(); }
  // Another channel of the protocol on this connection, which goes on to be opened at each call;
  // nullptr while it is. `refused` becomes true where the server has no other.
  SftpChannel* second_channel(bool& refused);

  // It cannot be used again: something on it was broken off.
  void spoil() { connection_.spoil(); }
  bool is_usable() const { return connection_.is_usable(); }

 private:
  SshConnection connection_;
  SftpChannel first_;
  std::optional<SftpChannel> second_;
};

}  // namespace kestrum
