#include "kestrum/remote/remote_settings.h"

#include <pwd.h>
#include <unistd.h>

#include <cstdlib>
#include <utility>
#include <vector>

#include "kestrum/base/own_settings.h"
#include "kestrum/base/text.h"
#include "kestrum/crypto/password_file.h"

namespace kestrum {
namespace {

RemoteSettings settings_in(const std::string& path, const std::string& host,
                           const toml::table& table) {
  std::string before = host + ".";
  for (const auto& [key, value] : table) {
    std::string where = printable(before + std::string(key.str()));
    if (value.is_table()) {
      refuse_settings(path, where + ": the name of a host stands in quotes",
                      "such as [\"backup.example.org\"]");
    }
    if (key.str() == "password") {
      refuse_settings(path, where + ": no such key",
                      "password_from names a file that has the password");
    }
  }
  RemoteSettings settings;
  read_settings(table, path, before,
                {{"user", &settings.user},
                 {"key", &settings.key},
                 {"password_from", &settings.password_from},
                 {"known_hosts", &settings.known_hosts},
                 {"ca", &settings.ca}});
  const std::vector<std::pair<const char*, const std::string*>> files = {
      {"key", &settings.key},
      {"password_from", &settings.password_from},
      {"known_hosts", &settings.known_hosts},
      {"ca", &settings.ca}};
  for (const auto& [name, file] : files) {
    if (file->empty() || file->front() == '/') continue;
    refuse_settings(path, printable(before + name) + ": must be an absolute path");
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
  auto parsed = path.empty() ? std::nullopt : read_own_settings(path);
  if (!parsed) return {};
  // All of it is looked at, so that a mistake is told whichever host is reached first.
  RemoteSettings for_host, for_port;
  bool has_port = false;
  for (const auto& [key, value] : *parsed) {
    std::string host = lower_ascii(key.str());
    const toml::table* table = value.as_table();
    if (table == nullptr) {
      refuse_settings(path,
                      printable(key.str()) + ": must be a table, such as [\"backup.example.org\"]");
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
