#include "kestrum/mail/mail_settings.h"

#include <fmt/format.h>
#include <sys/stat.h>
#include <toml++/toml.h>

#include <algorithm>
#include <array>
#include <regex>

#include "kestrum/base/error.h"
#include "kestrum/base/file.h"
#include "kestrum/base/own_file.h"
#include "kestrum/base/text.h"

namespace kestrum {
namespace {

constexpr std::uint64_t kSettingsLimit = 1 << 16;  // bytes

[[noreturn]] void wrong(const std::string& path, const std::string& what,
                        const std::string& hint = "") {
  throw Error(ErrorKind::kUsage, path + ": " + what, hint).about_path(path);
}

// The host of a URL, without brackets; empty if it is none for mail.
std::string host_of(const std::string& server) {
  static const std::regex kUrl(R"(smtps?://(\[[0-9A-Fa-f:.]+\]|[A-Za-z0-9.-]+)(:[0-9]{1,5})?/?)");
  std::smatch match;
  if (!std::regex_match(server, match, kUrl)) return "";
  std::string host = match[1];
  return host.starts_with('[') ? host.substr(1, host.size() - 2) : host;
}

}  // namespace

bool MailSettings::on_this_machine() const {
  std::string host = host_of(server);
  return host == "localhost" || host == "::1" || host.starts_with("127.");
}

std::string mail_settings_path(const Home& home) {
  return home.config + "/mail.toml";
}

std::optional<MailSettings> load_mail_settings(const Home& home) {
  std::string path = mail_settings_path(home);
  struct stat st {};
  if (::stat(path.c_str(), &st) != 0) return std::nullopt;
  require_own(st, path);
  if ((st.st_mode & 077) != 0) wrong(path, "others can read it", "chmod 600 " + path);
  toml::table parsed;
  try {
    parsed = toml::parse(read_file(path, kSettingsLimit), path);
  } catch (const toml::parse_error& error) {
    wrong(path,
          fmt::format("line {}: {}", error.source().begin.line, printable(error.description())));
  }
  MailSettings settings;
  std::string tls = "on";
  const std::array<std::pair<const char*, std::string*>, 6> keys = {
      {{"server", &settings.server},
       {"from", &settings.from},
       {"user", &settings.user},
       {"password_from", &settings.password_from},
       {"tls", &tls},
       {"ca", &settings.ca}}};
  for (const auto& [key, value] : parsed) {
    auto known =
        std::find_if(keys.begin(), keys.end(),
                     [name = std::string(key.str())](const auto& k) { return name == k.first; });
    std::string name(key.str());
    if (known == keys.end()) wrong(path, printable(name) + ": no such key");
    if (!value.is_string()) wrong(path, name + ": must be a text");
    *known->second = value.value_or(std::string());
  }
  if (host_of(settings.server).empty()) {
    wrong(path, "server: \"" + printable(settings.server) + "\" is no mail server",
          "such as \"smtp://mail.example.org:587\" or \"smtps://mail.example.org:465\"");
  }
  if (!is_mail_address(settings.from)) {
    wrong(path, "from: \"" + printable(settings.from) + "\" is no address");
  }
  if (tls != "on" && tls != "off") wrong(path, "tls: must be \"on\" or \"off\"");
  settings.tls = tls == "on";
  if (!settings.tls && !settings.on_this_machine()) {
    wrong(path, "tls: \"off\" is only for a server on this machine");
  }
  if (settings.user.empty() != settings.password_from.empty()) {
    wrong(path, "user and password_from belong together");
  }
  for (const std::string* file : {&settings.password_from, &settings.ca}) {
    if (!file->empty() && file->front() != '/') {
      wrong(path, printable(*file) + ": must be an absolute path");
    }
  }
  return settings;
}

}  // namespace kestrum
