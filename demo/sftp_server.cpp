#include "demo/sftp_server.h"

#include <fmt/format.h>
#include <netinet/in.h>
#include <pwd.h>
#include <sys/socket.h>
#include <unistd.h>

#include "kestrum/base/error.h"
#include "kestrum/base/file.h"
#include "kestrum/base/shell_word.h"
#include "kestrum/place/address.h"
#include "kestrum/system/process.h"

namespace kestrum::demo {
namespace {

constexpr const char* kServer = "/usr/sbin/sshd";
constexpr Nanos kLimit = 20 * kSecond;

void shell(const std::string& line) {
  std::string said;
  CommandResult result = run_shell_command(line, {}, kLimit, {},
                                           [&](const std::string& text) { said += text + "\n"; });
  if (!result.ok) throw Error(ErrorKind::kFailed, line + ": " + result.reason + "\n" + said);
}

int free_port() {
  Fd fd(::socket(AF_INET, SOCK_STREAM | SOCK_CLOEXEC, 0));
  sockaddr_in address{};
  address.sin_family = AF_INET;
  address.sin_addr.s_addr = htonl(INADDR_LOOPBACK);
  socklen_t length = sizeof address;
  auto* any = reinterpret_cast<sockaddr*>(&address);
  bool got = fd && ::bind(fd.get(), any, length) == 0 && ::getsockname(fd.get(), any, &length) == 0;
  if (!got) throw system_error(errno, "a port of this machine");
  return ntohs(address.sin_port);
}

}  // namespace

std::string SftpServer::why_not() {
  for (const char* program : {kServer, "/usr/bin/ssh-keygen"}) {
    if (::access(program, X_OK) != 0) return std::string("no ") + program + " here";
  }
  return "";
}

SftpServer::SftpServer(const std::string& folder) : folder_(folder), port_(free_port()) {
  const passwd* user = ::getpwuid(::geteuid());
  if (user == nullptr) throw Error(ErrorKind::kFailed, "the user of this process has no name");
  user_ = user->pw_name;
  std::string here = shell_word(folder_);
  shell("mkdir -p " + here + "/home/.ssh && chmod 700 " + here +
        "/home/.ssh && ssh-keygen -q -t ed25519 -N '' -f " + here +
        "/hostkey && ssh-keygen -q -t ed25519 -N '' -f " + here + "/home/.ssh/id_ed25519");
  // For root it wants a folder that its package's service makes.
  if (::geteuid() == 0) shell("mkdir -p /run/sshd");
  write_file(
      folder_ + "/conf",
      fmt::format("Port {0}\nListenAddress 127.0.0.1\nHostKey \"{1}/hostkey\"\n"
                  "AuthorizedKeysFile \"{1}/home/.ssh/id_ed25519.pub\"\nPidFile \"{1}/pid\"\n"
                  "UsePAM no\nStrictModes no\nPasswordAuthentication no\n"
                  "KbdInteractiveAuthentication no\nPermitRootLogin yes\n"
                  "Subsystem sftp internal-sftp -P remove,rmdir\n",
                  port_, folder_));
  shell(std::string(kServer) + " -f " + here + "/conf -E " + here + "/log");
  shell("for i in $(seq 100); do test -s " + here + "/pid && exit 0; sleep 0.1; done; cat " + here +
        "/log; exit 1");
}

SftpServer::~SftpServer() {
  try {
    shell("kill $(cat " + shell_word(folder_ + "/pid") + ")");
  } catch (const Error&) {
  }
}

std::string SftpServer::address(const std::string& path) const {
  return fmt::format("sftp://{}@127.0.0.1:{}{}", user_, port_, percent_encoded(path));
}

std::string SftpServer::make_known() const {
  return fmt::format("echo \"[127.0.0.1]:{} $(cut -d' ' -f1-2 {})\" >> {}", port_,
                     shell_word(folder_ + "/hostkey.pub"),
                     shell_word(folder_ + "/home/.ssh/known_hosts"));
}

}  // namespace kestrum::demo
