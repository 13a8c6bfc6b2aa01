// A mail server on this machine (RFC 5321, as far as a client needs it) that takes every mail and
// delivers none: for the demo and for tests.
#pragma once

#include <atomic>
#include <mutex>
#include <string>
#include <thread>
#include <vector>

namespace kestrum::demo {

class MailCatcher {
 public:
  enum class Manner {
    kTakes,
    kSilent,   // takes the connection, and says nothing
    kRefuses,  // no recipient is known
  };
  // Listens on a free port of 127.0.0.1. Throws Error(kFailed).
  explicit MailCatcher(Manner manner = Manner::kTakes);
  ~MailCatcher();
  MailCatcher(const MailCatcher&) = delete;
  MailCatcher& operator=(const MailCatcher&) = delete;

  int port() const { return port_; }
  // "smtp://127.0.0.1:2525"
  std::string url() const;
  void behave(Manner manner) { manner_ = manner; }

  struct Mail {
    std::string from;
    std::vector<std::string> to;
    std::string login;    // user and password, with a NUL between them; empty without
    std::string content;  // headers and body, lines ended by CR LF
    // To be shown: subject, sender, recipient, and the part that is plain text.
    std::string headers_and_text() const;
  };
  std::vector<Mail> mails() const;

 private:
  void serve();
  void talk(int connection);

  int listening_ = -1, port_ = 0;
  std::atomic<Manner> manner_;
  std::atomic<bool> ending_ = false;
  mutable std::mutex mutex_;
  std::vector<Mail> mails_;
  std::thread thread_;
};

}  // namespace kestrum::demo
