#include "demo/mail_catcher.h"

#include <arpa/inet.h>
#include <fmt/format.h>
#include <netinet/in.h>
#include <poll.h>
#include <sys/socket.h>
#include <unistd.h>

#include <cerrno>
#include <optional>

#include "kestrum/base/base64.h"
#include "kestrum/base/error.h"
#include "kestrum/base/text.h"

namespace kestrum::demo {
namespace {

constexpr int kTurn = 50;                   // milliseconds between looks at whether it is to end
constexpr std::size_t kLongest = 64 << 20;  // bytes of a mail

// What stands between the angle brackets of "MAIL FROM:<a@b>".
std::string address_in(const std::string& line) {
  std::size_t from = line.find('<'), to = line.find('>');
  return from == std::string::npos || to == std::string::npos
             ? ""
             : line.substr(from + 1, to - from - 1);
}

}  // namespace

MailCatcher::MailCatcher(Manner manner) : manner_(manner) {
  listening_ = ::socket(AF_INET, SOCK_STREAM | SOCK_CLOEXEC, 0);
  sockaddr_in address{};
  address.sin_family = AF_INET;
  address.sin_addr.s_addr = htonl(INADDR_LOOPBACK);
  socklen_t length = sizeof address;
  auto* plain = reinterpret_cast<sockaddr*>(&address);
  if (listening_ < 0 || ::bind(listening_, plain, length) != 0 || ::listen(listening_, 8) != 0 ||
      ::getsockname(listening_, plain, &length) != 0) {
    throw system_error(errno, "a mail server on this machine");
  }
  port_ = ntohs(address.sin_port);
  thread_ = std::thread([this] { serve(); });
}

MailCatcher::~MailCatcher() {
  ending_ = true;
  thread_.join();
  ::close(listening_);
}

std::string MailCatcher::url() const {
  return fmt::format("smtp://127.0.0.1:{}", port_);
}

std::vector<MailCatcher::Mail> MailCatcher::mails() const {
  std::lock_guard lock(mutex_);
  return mails_;
}

void MailCatcher::serve() {
  while (!ending_) {
    pollfd waiting{listening_, POLLIN, 0};
    if (::poll(&waiting, 1, kTurn) <= 0) continue;
    int connection = ::accept4(listening_, nullptr, nullptr, SOCK_CLOEXEC);
    if (connection < 0) continue;
    talk(connection);
    ::close(connection);
  }
}

void MailCatcher::talk(int connection) {
  std::string pending;
  auto say = [&](const std::string& text) {
    std::string line = text + "\r\n";
    ::send(connection, line.data(), line.size(), MSG_NOSIGNAL);
  };
  // Without its end; nothing once the other side has gone.
  auto next_line = [&]() -> std::optional<std::string> {
    for (;;) {
      if (std::size_t end = pending.find("\r\n"); end != std::string::npos) {
        std::string line = pending.substr(0, end);
        pending.erase(0, end + 2);
        return line;
      }
      if (ending_ || pending.size() > kLongest) return std::nullopt;
      pollfd waiting{connection, POLLIN, 0};
      if (::poll(&waiting, 1, kTurn) <= 0) continue;
      char buffer[65536];
      ssize_t n = ::recv(connection, buffer, sizeof buffer, 0);
      if (n <= 0) return std::nullopt;
      pending.append(buffer, static_cast<std::size_t>(n));
    }
  };
  if (manner_ == Manner::kSilent) {
    while (next_line()) {
    }
    return;
  }
  say("220 here");
  Mail mail;
  while (auto line = next_line()) {
    std::string word = lower_ascii(line->substr(0, 4));
    if (word == "ehlo") {
      say("250-here");
      say("250 AUTH PLAIN");
    } else if (word == "auth") {
      std::string said = line->substr(line->rfind(' ') + 1);
      if (lower_ascii(said) == "plain") {
        say("334 ");
        said = next_line().value_or("");
      }
      mail.login = base64_decode(said).value_or(std::string(1, '\0')).substr(1);
      say("235 welcome");
    } else if (word == "mail") {
      mail.from = address_in(*line);
      say("250 yes");
    } else if (word == "rcpt" && manner_ == Manner::kRefuses) {
      say("550 nobody here has that name");
    } else if (word == "rcpt") {
      mail.to.push_back(address_in(*line));
      say("250 yes");
    } else if (word == "data") {
      say("354 go on");
      while (auto text = next_line()) {
        if (*text == ".") {
          std::lock_guard lock(mutex_);
          mails_.push_back(std::move(mail));
          mail = {};
          say("250 taken");
          break;
        }
        mail.content += (text->starts_with('.') ? text->substr(1) : *text) + "\r\n";
      }
    } else if (word == "quit") {
      say("221 bye");
      return;
    } else {
      say("250 yes");
    }
  }
}

std::string MailCatcher::Mail::headers_and_text() const {
  std::string shown;
  for (std::string line : split(content, '\n')) {
    if (line.ends_with('\r')) line.pop_back();
    if (line.empty()) break;
    if (line.starts_with("From: ") || line.starts_with("To: ") || line.starts_with("Subject: ")) {
      shown += line + "\n";
    }
  }
  std::size_t part = content.find("text/plain"), begin = content.find("\r\n\r\n", part),
              end = content.find("\r\n--", begin + 4);
  if (part == std::string::npos || begin == std::string::npos || end == std::string::npos)
    return shown;
  std::string body = content.substr(begin, end - begin);
  std::erase_if(body, [](char c) { return c == '\r' || c == '\n'; });
  return shown + "\n" + base64_decode(body).value_or("");
}

}  // namespace kestrum::demo
