// Exchanges with one server, through libcurl. Connections are kept and used again; as many as there
// are exchanges at a time.
#pragma once

#include <curl/curl.h>

#include <atomic>
#include <cstdint>
#include <functional>
#include <memory>
#include <mutex>
#include <optional>
#include <span>
#include <string>
#include <string_view>
#include <vector>

#include "kestrum/base/bytes.h"
#include "kestrum/base/error.h"
#include "kestrum/remote/remote_settings.h"

namespace kestrum {

// Nobody answers, or the connection broke: what was being done may be tried again.
class BrokenConnection : public Error {
 public:
  BrokenConnection(const Error& error, bool first, bool answered)
      : Error(error), first_(first), answered_(answered) {}
  // The server has answered nothing yet in this process.
  bool first() const { return first_; }
  // The connection is good, and the server says that it cannot: hardly worth an hour.
  bool answered() const { return answered_; }

 private:
  bool first_, answered_;
};

// What is written to a server.
struct Content {
  // Fills what it is given; gives how much, 0 at the end, nothing to break off.
  std::function<std::optional<std::size_t>(std::span<std::uint8_t>)> fill;
  std::optional<std::uint64_t> size;  // bytes, where it is known
  std::function<void()> rewind;       // goes back to the first byte; none: it cannot
};

// What is asked of a server. Empty fields ask for nothing.
struct Exchange {
  std::string path;  // absolute, as it is on the server; with '/' at its end a folder
  std::vector<std::string> commands;  // of SFTP and FTP, as CURLOPT_QUOTE has them
  std::string method;                 // of HTTP
  std::vector<std::string> headers;   // of HTTP, "Name: value"
  std::string body;                   // of HTTP
  bool no_body = false;               // only commands and what is known of the path
  bool wildcard = false;              // FTP: list what matches the path's last name
  // First and last byte; to the end without the last.
  std::optional<std::pair<std::uint64_t, std::optional<std::uint64_t>>> range;

  Content content;                 // none without `fill`
  std::uint64_t content_from = 0;  // where in the file its first byte belongs

  // More than a megabyte is expected: what is asked for in larger pieces comes faster from far
  // away, and a small file slower.
  bool large = false;
  std::function<bool(ByteView)> received;            // false breaks off
  std::function<void(std::string_view)> header;      // a line, of HTTP or told by commands
  std::function<void(const curl_fileinfo&)> listed;  // with `wildcard`
};

// Answers of FTP (RFC 959, section 4.2) that say that no room is left.
inline constexpr long kFtpNoStorage = 452, kFtpOverQuota = 552;

struct Reply {
  CURLcode code = CURLE_OK;
  long status = 0;           // the server's own code
  std::int64_t length = -1;  // of what the path is, in bytes; -1: not told
  std::string problem;       // in words; empty if all is well
  bool connected = false;    // the connection is still there, with nothing unread on it
};

class Connections {
 public:
  // Of the server that `address` names; its path does not matter.
  explicit Connections(RemoteAddress address);

  // Throws BrokenConnection, and Error(kPlace) for what will not get better by itself: a host key,
  // a certificate or a login that is refused. All else is in the reply.
  Reply perform(const Exchange& exchange);

  // Throws BrokenConnection: the server, or what stands before it, cannot just now.
  [[noreturn]] void unable(const std::string& path, const std::string& problem,
                           bool answered) const;
  [[noreturn]] void refuse_login() const;

  const RemoteAddress& address() const { return address_; }
  // As messages name it.
  std::string url(const std::string& path) const;
  // As libcurl and HTTP name it: no user in it, and the protocol's own scheme.
  std::string sent_url(const std::string& path) const;
  std::string known_hosts() const;  // of SFTP: the file

  // Those to the server of an address, the same for all places on it.
  static std::shared_ptr<Connections> to(const RemoteAddress& address);

 private:
  struct Handle;
  struct Call;
  std::unique_ptr<Handle> take(bool large);
  void set_up(Call& call);
  void set_access(Call& call);
  Reply attempt(Call& call);
  [[noreturn]] void refuse_host(const Call& call) const;

  RemoteAddress address_;
  RemoteSettings settings_;
  std::vector<std::string> keys_;  // SFTP: private keys to try, the first that is taken first
  std::mutex mutex_;
  std::vector<std::unique_ptr<Handle>> idle_, idle_large_;
  std::atomic<bool> answered_ = false;
};

}  // namespace kestrum
