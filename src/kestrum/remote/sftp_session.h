// One connection of SSH to a server, with its file transfer protocol
// (draft-ietf-secsh-filexfer-02, which servers call version 3), through libssh2.
#pragma once

#include <libssh2.h>
#include <libssh2_sftp.h>
#include <sys/types.h>

#include <optional>
#include <string>
#include <vector>

#include "kestrum/base/file.h"
#include "kestrum/base/nanos.h"
#include "kestrum/remote/ssh_access.h"

namespace kestrum {

// Used by one thread at a time. Calls of libssh2 are made through finished(), which waits where the
// server has not answered yet.
class SftpSession {
 public:
  // Connects, compares the host's key and logs in. Throws BrokenConnection, and Error(kPlace) for a
  // key or a login that is refused. `server` outlives it.
  explicit SftpSession(SshAccess& server);
  ~SftpSession();
  SftpSession(const SftpSession&) = delete;

  LIBSSH2_SFTP* sftp() const { return sftp_; }

  // What `call` answers once it needs not wait any more: a number of libssh2, or a pointer. Throws
  // BrokenConnection when the connection breaks or the server says nothing for minutes.
  template <typename Call>
  auto finished(Call call) {
    look_at_let_go();
    begin_to_wait();
    for (;;) {
      auto answer = call();
      if (!would_wait(answer)) return answer;
      wait();
    }
  }

  // Why the server refused what gave this answer, as SSH_FX_ number; nothing if it did not. Throws
  // BrokenConnection for any other trouble. `channel` if it is not the first.
  std::optional<unsigned long> refusal(ssize_t answer, LIBSSH2_SFTP* channel = nullptr);
  // The same of a pointer.
  std::optional<unsigned long> refusal(const void* answer);

  // Closes a handle, whatever the server says of that, and does not wait for it.
  void let_go(LIBSSH2_SFTP_HANDLE* handle);

  // For who has several calls under way: those that would have to wait are made again when wait()
  // returns, which throws as finished() does; begin_to_wait() comes before the first. One that left
  // a packet half sent has to be made again before any other.
  static bool would_wait(ssize_t answer) { return answer == LIBSSH2_ERROR_EAGAIN; }
  template <typename T>
  bool would_wait(T* answer) const {
    return answer == nullptr && libssh2_session_last_errno(session_) == LIBSSH2_ERROR_EAGAIN;
  }
  void begin_to_wait();
  void wait();
  bool is_half_sent() const;
  // Another channel of the protocol on this connection; nullptr if it would wait, or the server
  // refuses.
  LIBSSH2_SFTP* second_channel();

  // It cannot be used again: something on it was broken off.
  void spoil() { spoiled_ = true; }
  bool is_usable() const;

 private:
  void look_at_let_go();
  [[noreturn]] void broke();
  std::string problem() const;  // in words

  void open();
  // Names of LIBSSH2_METHOD_… in order; only those that the library has are asked for: of any other
  // name it makes a mess of its own list.
  void prefer(int method, const std::vector<std::string>& names);
  void check_host();
  void log_in();
  bool by_keys(const std::string& user, std::vector<std::string>& tried);
  bool by_agent(const std::string& user);
  bool by_password(const std::string& user);
  bool accepted(int answer);
  void close();

  SshAccess& server_;
  Fd socket_;
  LIBSSH2_SESSION* session_ = nullptr;
  LIBSSH2_SFTP* sftp_ = nullptr;
  LIBSSH2_SFTP* second_ = nullptr;
  std::vector<LIBSSH2_SFTP_HANDLE*> let_go_;  // and not yet closed
  Nanos active_ = 0;   // when the server last had something for us, or was asked
  Nanos silence_ = 0;  // how long it may have nothing
  bool spoiled_ = false;
  bool refused_ = false;  // a way to log in
};

}  // namespace kestrum
