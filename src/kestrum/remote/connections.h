// Exchanges with one server by HTTP or FTP, through libcurl. Connections are kept and used again;
// as many as there are exchanges at a time.
#pragma once

#include <curl/curl.h>

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
#include "kestrum/remote/remote_server.h"
#include "kestrum/remote/store.h"

namespace kestrum {

// What is asked of a server. Empty fields ask for nothing.
struct Exchange {
  std::string path;  // absolute, as it is on the server; with '/' at its end a folder
  std::vector<std::string> commands;  // of FTP, as CURLOPT_QUOTE has them
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
};

class Connections : public RemoteServer {
 public:
  explicit Connections(RemoteAddress address);
  ~Connections() override;

  // Throws BrokenConnection, and Error(kPlace) for what will not get better by itself: a
  // certificate or a login that is refused. All else is in the reply.
  Reply perform(const Exchange& exchange);

  // As libcurl and HTTP name it: no user in it, and the protocol's own scheme.
  std::string sent_url(const std::string& path) const;

 private:
  struct Handle;
  struct Call;
  std::unique_ptr<Handle> take(bool large);
  void set_up(Call& call);
  void set_access(Call& call);
  Reply attempt(Call& call);

  std::mutex mutex_;
  std::vector<std::unique_ptr<Handle>> idle_, idle_large_;
};

}  // namespace kestrum
