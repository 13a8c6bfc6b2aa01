// One connection of SSH to a server that it has proved to be, and that let this user in, through
// libssh.
#pragma once

#include <libssh/libssh.h>

#include <string>
#include <vector>

#include "kestrum/base/file.h"
#include "kestrum/base/nanos.h"
#include "kestrum/remote/ssh_access.h"

namespace kestrum {

// Used by one thread at a time. No call of libssh waits: what would is made again after wait().
class SshConnection {
 public:
  // Connects, compares the host's key and logs in. Throws BrokenConnection, and Error(kPlace) for a
  // key or a login that is refused. `server` outlives it.
  explicit SshConnection(SshAccess& server);
  ~SshConnection();
  SshConnection(const SshConnection&) = delete;

  ssh_session session() const { return session_; }
  SshAccess& server() { return server_; }

  // What `call` answers when it is not `again` any more. Throws as wait() does.
  template <typename Call, typename Answer>
  auto finished(Call call, Answer again) {
    begin_to_wait();
    for (;;) {
      auto answer = call();
      if (answer != again) return answer;
      wait();
    }
  }
  // Returns when there may be something to read, or room to send what waits; throws
  // BrokenConnection where the server says nothing for minutes. begin_to_wait() comes before the
  // first of a row, when something was asked.
  void begin_to_wait();
  void wait();

  // It cannot be used again: something on it was broken off.
  void spoil() { spoiled_ = true; }
  bool is_usable() const;
  bool is_connected() const;
  // Throws BrokenConnection; `why` where libssh does not know it.
  [[noreturn]] void broke(const std::string& why = "");
  [[noreturn]] void garbled();  // the same, of an answer that is none

 private:
  void open();
  void set(ssh_options_e option, const void* value);
  void set(ssh_options_e option, const std::string& value) { set(option, value.c_str()); }
  void check_host(const KnownKeys& known);
  void log_in();
  bool by_keys(const std::string& user, std::vector<std::string>& tried);
  bool by_agent(const std::string& user);
  bool by_password(const std::string& user);
  template <typename Call>
  bool lets_in_by(Call call);
  void close();

  SshAccess& server_;
  Fd socket_;  // beside the one of libssh, which closes that when it likes
  ssh_session session_ = nullptr;
  Nanos active_ = 0;   // when the server last had something for us, or was asked
  Nanos silence_ = 0;  // how long it may have nothing
  bool spoiled_ = false;
  bool refused_ = false;  // a way to log in
};

}  // namespace kestrum
