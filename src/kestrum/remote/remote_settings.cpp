#include "kestrum/remote/remote_settings.h"

#include <fcntl.h>
#include <fmt/format.h>
#include <pwd.h>
#include <sys/stat.h>
#include <toml++/toml.h>
#include <unistd.h>

#include <algorithm>
#include <array>
#include <cerrno>
#include <cstdlib>

#include "kestrum/base/error.h"
#include "kestrum/base/followed.h"
#include "kestrum/base/own_file.h"
#include "kestrum/base/text.h"
#include "kestrum/crypto/password_file.h"

namespace kestrum {
namespace {

constexpr std::size_t kFileLimit = 1 << 18;  // bytes

[[noreturn]] void refuse(const std::string& path, const std::string& what,
                         const std::string& hint = "") {
  throw Error(ErrorKind::kUsage, path + ": " + what, hint).about_path(path);
}

// Empty if there is no such file.
std::string settings_text(const std::string& path) {
  if (path.empty()) return "";
  Fd fd = open_named(path, O_RDONLY | O_NONBLOCK | O_NOCTTY);
  struct stat st {};
  if (!fd && errno == ENOENT) return "";
  if (!fd || ::fstat(fd.get(), &st) != 0) throw system_error(errno, path, ErrorKind::kUsage);
  require_own(st, path);
  if (!S_ISREG(st.st_mode)) refuse(path, "not a file");
  if ((st.st_mode & 077) != 0) refuse(path, "others can read it", "chmod 600 " + path);
  return std::string(read_secret(fd.get(), path, kFileLimit).text());
}

RemoteSettings settings_in(const std::string& path, const std::string& host,
                           const toml::table& table) {
  RemoteSettings settings;
  const std::array<std::pair<const char*, std::string*>, 5> keys = {
      {{"user", &settings.user},
       {"key", &settings.key},
       {"password_from", &settings.password_from},
       {"known_hosts", &settings.known_hosts},
       {"ca", &settings.ca}}};
  for (const auto& [key, value] : table) {
    std::string name(key.str()), where = printable(host + "." + name);
    auto known =
        std::find_if(keys.begin(), keys.end(), [&](const auto& k) { return name == k.first; });
    if (value.is_table()) {
      refuse(path, where + ": the name of a host stands in quotes",
             "such as [\"backup.example.org\"]");
    }
    if (known == keys.end()) {
      bool secret = name == "password";
      refuse(path, where + ": no such key",
             secret ? "password_from names a file that has the password" : "");
    }
    if (!value.is_string()) refuse(path, where + ": must be a text");
    *known->second = value.value_or(std::string());
    bool is_file = known->second != &settings.user;
    if (is_file && !known->second->empty() && known->second->front() != '/') {
      refuse(path, where + ": must be an absolute path");
    }
  }
  return settings;
}

}  // namespace

RemoteContext& remote_context() {
  static RemoteContext context;
  return context;
}

Secret RemoteSettings::password() const {
  return password_from.empty() ? Secret() : read_password(password_from);
}

RemoteSettings remote_settings(const RemoteAddress& address) {
  const std::string& path = remote_context().settings_file;
  std::string text = settings_text(path);
  toml::table parsed;
  try {
    parsed = toml::parse(text, path);
  } catch (const toml::parse_error& error) {
    refuse(path,
           fmt::format("line {}: {}", error.source().begin.line, printable(error.description())));
  }
  // All of it is looked at, so that a mistake is told whichever host is reached first.
  RemoteSettings for_host, for_port;
  bool has_port = false;
  for (const auto& [key, value] : parsed) {
    std::string host = lower_ascii(key.str());
    const toml::table* table = value.as_table();
    if (table == nullptr) {
      refuse(path, printable(key.str()) + ": must be a table, such as [\"backup.example.org\"]");
    }
    RemoteSettings settings = settings_in(path, host, *table);
    if (host == address.host) for_host = settings;
    if (address.port != 0 && host == address.host_and_port()) {
      for_port = settings;
      has_port = true;
    }
  }
  return has_port ? for_port : for_host;
}

std::string ssh_folder() {
  const char* home = std::getenv("HOME");
  if (home != nullptr && home[0] == '/') return std::string(home) + "/.ssh";
  const passwd* user = ::getpwuid(::geteuid());
  return user == nullptr || user->pw_dir == nullptr ? "/.ssh" : std::string(user->pw_dir) + "/.ssh";
}

}  // namespace kestrum
