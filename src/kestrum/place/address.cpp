#include "kestrum/place/address.h"

#include <fmt/format.h>

#include <algorithm>
#include <array>
#include <optional>
#include <vector>

#include "kestrum/base/error.h"
#include "kestrum/base/file.h"
#include "kestrum/base/host_name.h"
#include "kestrum/base/text.h"

namespace kestrum {
namespace {

using Protocol = RemoteAddress::Protocol;

constexpr std::array<std::pair<std::string_view, Protocol>, 4> kSchemes = {{
    {"sftp://", Protocol::kSftp},
    {"webdavs://", Protocol::kWebdavs},
    {"webdav://", Protocol::kWebdav},
    {"ftps://", Protocol::kFtps},
}};
constexpr std::uint32_t kHighestPort = 65535;

bool stands_for_itself(char c) {
  auto byte = static_cast<unsigned char>(c);
  return (byte >= '0' && byte <= '9') || (byte >= 'a' && byte <= 'z') ||
         (byte >= 'A' && byte <= 'Z') || std::string_view("-._~/@+,=").find(c) != std::string::npos;
}

bool is_host(const std::string& host) {
  return !host.empty() && host.front() != '-' && std::all_of(host.begin(), host.end(), [](char c) {
    return stands_for_itself(c) && std::string_view("~/@+,=").find(c) == std::string::npos;
  });
}

bool is_ipv6(const std::string& host) {
  return host.find(':') != std::string::npos &&
         host.find_first_not_of("0123456789abcdefABCDEF:.") == std::string::npos;
}

std::optional<int> hex_digit(char c) {
  if (c >= '0' && c <= '9') return c - '0';
  if (c >= 'a' && c <= 'f') return c - 'a' + 10;
  if (c >= 'A' && c <= 'F') return c - 'A' + 10;
  return std::nullopt;
}

Error no_address(std::string_view text, const std::string& why) {
  return Error(ErrorKind::kUsage, fmt::format("\"{}\" is no address: {}", printable(text), why),
               "such as sftp://user@host/path, webdavs://host/path or ftps://host/path");
}

}  // namespace

std::string percent_encoded(std::string_view path) {
  std::string text;
  for (char c : path) {
    if (stands_for_itself(c)) {
      text += c;
    } else {
      text += fmt::format("%{:02X}", static_cast<unsigned char>(c));
    }
  }
  return text;
}

std::string percent_decoded(std::string_view text) {
  std::string bytes;
  for (std::size_t i = 0; i < text.size(); ++i) {
    if (text[i] != '%') {
      bytes += text[i];
      continue;
    }
    auto high = i + 2 < text.size() ? hex_digit(text[i + 1]) : std::nullopt;
    auto low = i + 2 < text.size() ? hex_digit(text[i + 2]) : std::nullopt;
    if (!high || !low || (*high == 0 && *low == 0)) {
      throw no_address(text, "a % stands before two hexadecimal digits, as in %20");
    }
    bytes += static_cast<char>(*high * 16 + *low);
    i += 2;
  }
  return bytes;
}

std::string RemoteAddress::host_and_port() const {
  return port == 0 ? host : fmt::format("{}:{}", is_ipv6(host) ? "[" + host + "]" : host, port);
}

std::string RemoteAddress::text() const {
  auto scheme = std::find_if(kSchemes.begin(), kSchemes.end(),
                             [&](const auto& s) { return s.second == protocol; });
  std::string at = port != 0 ? host_and_port() : is_ipv6(host) ? "[" + host + "]" : host;
  return std::string(scheme->first) + (user.empty() ? "" : percent_encoded(user) + "@") + at +
         (path == "/" ? "" : percent_encoded(path));
}

bool RemoteAddress::on_this_machine() const {
  return is_this_machine(host);
}

bool is_remote(std::string_view place) {
  return std::any_of(kSchemes.begin(), kSchemes.end(),
                     [&](const auto& scheme) { return place.starts_with(scheme.first); });
}

RemoteAddress parse_address(std::string_view text) {
  auto scheme = std::find_if(kSchemes.begin(), kSchemes.end(),
                             [&](const auto& s) { return text.starts_with(s.first); });
  if (scheme == kSchemes.end()) throw no_address(text, "nothing is known of its protocol");
  RemoteAddress address;
  address.protocol = scheme->second;
  std::string_view rest = text.substr(scheme->first.size());
  std::size_t slash = std::min(rest.find('/'), rest.size());
  std::string host(rest.substr(0, slash));
  if (std::size_t at = host.rfind('@'); at != std::string::npos) {
    address.user = host.substr(0, at);
    host.erase(0, at + 1);
    if (address.user.find(':') != std::string::npos) {
      throw Error(ErrorKind::kUsage, "an address has no password in it: everybody could read it",
                  "name a file with the password in places.toml: kestrum help places");
    }
    address.user = percent_decoded(address.user);
    if (address.user.empty()) throw no_address(text, "no user stands before the @");
  }
  std::string port;
  if (host.starts_with('[')) {
    std::size_t end = host.find(']');
    if (end == std::string::npos) throw no_address(text, "a ] is missing");
    address.host = host.substr(1, end - 1);
    port = host.substr(end + 1);
    if (!is_ipv6(address.host)) throw no_address(text, "there is no IPv6 address in brackets");
  } else {
    std::size_t colon = std::min(host.find(':'), host.size());
    address.host = lower_ascii(host.substr(0, colon));
    port = host.substr(colon);
    if (!is_host(address.host)) throw no_address(text, "no host's name");
  }
  if (!port.empty()) {
    auto number = parse_number(port.substr(1), kHighestPort);
    if (port.front() != ':' || !number || *number == 0) throw no_address(text, "no port");
    address.port = static_cast<std::uint16_t>(*number);
  }
  if (address.protocol == Protocol::kWebdav && !address.on_this_machine()) {
    throw Error(ErrorKind::kUsage,
                printable(text) + ": without encryption only for a server on this machine",
                "webdavs:// for any other");
  }
  // What a path means that goes up again is the server's to say: it does not stand in an address.
  std::string path = percent_decoded(rest.substr(slash));
  for (const std::string& name : split(path, '/')) {
    if (name.empty()) continue;
    if (name == "." || name == "..") throw no_address(text, "\"" + name + "\" in its path");
    address.path += "/" + name;
  }
  if (address.path.empty()) address.path = "/";
  return address;
}

std::string place_named(const std::string& typed) {
  return is_remote(typed) ? parse_address(typed).text() : absolute_path(typed);
}

bool is_place_called(const std::string& place, const std::string& typed) {
  return place == place_named(typed) ||
         (typed.find('/') == std::string::npos && base_name(place) == typed);
}

}  // namespace kestrum
