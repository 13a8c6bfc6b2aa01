#include "kestrum/mail/mail_settings.h"

#include <regex>

#include "kestrum/base/host_name.h"
#include "kestrum/base/own_settings.h"
#include "kestrum/base/text.h"

namespace kestrum {
namespace {

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
  return is_this_machine(host_of(server));
}

std::string mail_settings_path(const Home& home) {
  return home.config + "/mail.toml";
}

std::optional<MailSettings> load_mail_settings(const Home& home) {
  std::string path = mail_settings_path(home);
  auto parsed = read_own_settings(path);
  if (!parsed) return std::nullopt;
  MailSettings settings;
  std::string tls = "on";
  read_settings(*parsed, path, "",
                {{"server", &settings.server},
                 {"from", &settings.from},
                 {"user", &settings.user},
                 {"password_from", &settings.password_from},
                 {"tls", &tls},
                 {"ca", &settings.ca}});
  if (host_of(settings.server).empty()) {
    refuse_settings(path, "server: \"" + printable(settings.server) + "\" is no mail server",
                    "such as \"smtp://mail.example.org:587\" or \"smtps://mail.example.org:465\"");
  }
  if (!is_mail_address(settings.from)) {
    refuse_settings(path, "from: \"" + printable(settings.from) + "\" is no address");
  }
  if (tls != "on" && tls != "off") refuse_settings(path, "tls: must be \"on\" or \"off\"");
  settings.tls = tls == "on";
  if (!settings.tls && !settings.on_this_machine()) {
    refuse_settings(path, "tls: \"off\" is only for a server on this machine");
  }
  if (settings.user.empty() != settings.password_from.empty()) {
    refuse_settings(path, "user and password_from belong together");
  }
  for (const std::string* file : {&settings.password_from, &settings.ca}) {
    if (!file->empty() && file->front() != '/') {
      refuse_settings(path, printable(*file) + ": must be an absolute path");
    }
  }
  return settings;
}

}  // namespace kestrum
