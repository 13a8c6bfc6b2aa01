#include "kestrum/remote/remote_server.h"

#include <fmt/format.h>

#include <utility>

#include "kestrum/base/text.h"

namespace kestrum {

RemoteServer::RemoteServer(RemoteAddress address)
    : address_(std::move(address)), settings_(remote_settings(address_)) {
  if (address_.user.empty()) address_.user = settings_.user;
}

std::string RemoteServer::url(const std::string& path) const {
  RemoteAddress there = address_;
  there.path = path;
  return there.text();
}

void RemoteServer::refuse_login(const std::vector<std::string>& keys) const {
  std::string tried;
  for (const std::string& key : keys) {
    tried += (tried.empty() ? "" : ", ") + printable(key);
  }
  std::string hint = "its user and how he proves himself are named in " +
                     (remote_context().settings_file.empty() ? std::string("places.toml")
                                                             : remote_context().settings_file);
  if (address_.protocol == RemoteAddress::Protocol::kSftp) {
    hint = tried.empty() ? "there is no key in " + ssh_folder() + "; " + hint
                         : "tried: " + tried + "; " + hint;
  }
  throw Error(ErrorKind::kPlace,
              fmt::format("{} refuses the login{}", address_.host_and_port(),
                          address_.user.empty() ? "" : " of " + printable(address_.user)),
              hint)
      .about_path(url("/"));
}

void RemoteServer::unable(const std::string& path, const std::string& problem,
                          bool answered) const {
  throw BrokenConnection(
      Error(ErrorKind::kPlace, fmt::format("{}: {}", address_.host_and_port(), problem),
            answered ? "what is wrong there is for whoever runs it to find"
                     : "whether the server is there, and the way to it, is what to look at")
          .about_path(url(path))
          .may_come(),
      !answered_, answered);
}

}  // namespace kestrum
