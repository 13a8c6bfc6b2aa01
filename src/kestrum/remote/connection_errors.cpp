// What is told of a server that lets nobody in, or does not answer.
#include <fmt/format.h>

#include "kestrum/base/text.h"
#include "kestrum/remote/connections.h"

namespace kestrum {

void Connections::refuse_login() const {
  std::string tried;
  bool rsa = false;
  for (const std::string& key : keys_) {
    tried += (tried.empty() ? "" : ", ") + printable(key);
    rsa |= key.ends_with("id_rsa");
  }
  std::string hint = "its user and how he proves himself are named in " +
                     (remote_context().settings_file.empty() ? std::string("places.toml")
                                                             : remote_context().settings_file);
  if (address_.protocol == RemoteAddress::Protocol::kSftp) {
    hint = tried.empty() ? "there is no key in " + ssh_folder() + "; " + hint
                         : "tried: " + tried + "; " + hint;
    if (rsa) hint += "; many servers do not take RSA keys from this library: make an ed25519 one";
  }
  throw Error(ErrorKind::kPlace,
              fmt::format("{} refuses the login{}", address_.host_and_port(),
                          address_.user.empty() ? "" : " of " + printable(address_.user)),
              hint)
      .about_path(url("/"));
}

void Connections::unable(const std::string& path, const std::string& problem, bool answered) const {
  throw BrokenConnection(
      Error(ErrorKind::kPlace, fmt::format("{}: {}", address_.host_and_port(), problem),
            answered ? "what is wrong there is for whoever runs it to find"
                     : "whether the server is there, and the way to it, is what to look at")
          .about_path(url(path))
          .may_come(),
      !answered_, answered);
}

}  // namespace kestrum
