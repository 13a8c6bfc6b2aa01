#include "support/servers.h"

#include <arpa/inet.h>
#include <fcntl.h>
#include <fmt/format.h>
#include <gtest/gtest.h>
#include <signal.h>
#include <sys/socket.h>
#include <sys/stat.h>
#include <sys/wait.h>
#include <unistd.h>

#include <filesystem>

namespace kestrum::test {

namespace fs = std::filesystem;

namespace {

int connect_to(int port) {
  int fd = ::socket(AF_INET, SOCK_STREAM | SOCK_CLOEXEC, 0);
  sockaddr_in address{};
  address.sin_family = AF_INET;
  address.sin_port = htons(static_cast<std::uint16_t>(port));
  address.sin_addr.s_addr = htonl(INADDR_LOOPBACK);
  if (::connect(fd, reinterpret_cast<sockaddr*>(&address), sizeof address) == 0) return fd;
  ::close(fd);
  return -1;
}

bool answers(int port) {
  int fd = connect_to(port);
  if (fd >= 0) ::close(fd);
  return fd >= 0;
}

int free_port() {
  int fd = ::socket(AF_INET, SOCK_STREAM | SOCK_CLOEXEC, 0);
  sockaddr_in address{};
  address.sin_family = AF_INET;
  address.sin_addr.s_addr = htonl(INADDR_LOOPBACK);
  socklen_t size = sizeof address;
  ::bind(fd, reinterpret_cast<sockaddr*>(&address), size);
  ::getsockname(fd, reinterpret_cast<sockaddr*>(&address), &size);
  ::close(fd);
  return ntohs(address.sin_port);
}

}  // namespace

Proxy::Proxy(int port) {
  int to[2], from[2];
  if (::pipe2(to, O_CLOEXEC) != 0 || ::pipe2(from, O_CLOEXEC) != 0) ADD_FAILURE() << "no pipes";
  std::string script = KESTRUM_PROXY, target = std::to_string(port);
  pid_ = ::fork();
  if (pid_ == 0) {
    ::dup2(to[0], 0);
    ::dup2(from[1], 1);
    ::execlp("python3", "python3", script.c_str(), target.c_str(), nullptr);
    ::_exit(127);
  }
  ::close(to[0]);
  ::close(from[1]);
  in_ = to[1];
  out_ = from[0];
  port_ = std::atoi(read_line().c_str());
  EXPECT_GT(port_, 0) << "the proxy did not start";
}

Proxy::~Proxy() {
  ::close(in_);
  ::kill(pid_, SIGKILL);
  ::waitpid(pid_, nullptr, 0);
  ::close(out_);
}

std::string Proxy::read_line() {
  std::string line;
  char c = 0;
  while (::read(out_, &c, 1) == 1 && c != '\n') line += c;
  return line;
}

std::string Proxy::tell(const std::string& line) {
  std::string text = line + "\n";
  EXPECT_EQ(::write(in_, text.data(), text.size()), static_cast<ssize_t>(text.size()));
  return read_line();
}

std::string name_of(ServerKind kind) {
  switch (kind) {
    case ServerKind::kSftp:
      return "sftp";
    case ServerKind::kNginx:
      return "nginx";
    case ServerKind::kApache:
      return "apache";
    case ServerKind::kFtps:
      return "ftps";
  }
  return "";
}

std::string Server::why_not(ServerKind kind) {
  if (::geteuid() != 0) return "starting a server needs root";
  const char* program = kind == ServerKind::kSftp     ? "/usr/sbin/sshd"
                        : kind == ServerKind::kNginx  ? "/usr/sbin/nginx"
                        : kind == ServerKind::kApache ? "/usr/sbin/apache2"
                                                      : "/usr/sbin/vsftpd";
  return fs::exists(program) ? "" : std::string("no ") + program + " here";
}

Server::Server(ServerKind kind, Allows allows, std::string more)
    : files(fs::is_directory("/dev/shm") ? "/dev/shm" : ""),
      kind_(kind),
      allows_(allows),
      more_(std::move(more)),
      root_(files / "root") {
  fs::create_directories(folder());
  run_script("chmod 755 " + files.path() + " " + root_);
  // The user of the server: vsftpd wants one that has a home.
  std::string owner = kind_ == ServerKind::kFtps ? "ftp" : "nobody";
  if (kind_ != ServerKind::kSftp) run_script("chown " + owner + " " + folder());
  if (kind_ == ServerKind::kNginx || kind_ == ServerKind::kFtps) {
    run_script("cd " + files.path() +
               " && openssl req -x509 -newkey ec -pkeyopt ec_paramgen_curve:P-256 -nodes -keyout"
               " key.pem -out cert.pem -days 30 -subj /CN=localhost -addext"
               " subjectAltName=DNS:localhost,IP:127.0.0.1 2>&1");
  }
  if (kind_ == ServerKind::kSftp) {
    run_script("cd " + files.path() +
               " && ssh-keygen -q -t ed25519 -N '' -f hostkey && ssh-keygen -q -t ecdsa -N '' -f"
               " hostkey2 && ssh-keygen -q -t ed25519 -N '' -f userkey && mkdir -p /run/sshd");
  }
  start();
}

Server::~Server() {
  stop();
}

void Server::stop() {
  if (!process_) return;
  process_->signal(SIGTERM);
  eventually([&] { return !answers(port_); }, 5);
  process_.reset();
}

void Server::start() {
  constexpr int kAttempts = 5;
  for (int attempt = 0; attempt < kAttempts; ++attempt) {
    if (port_ == 0) port_ = free_port();
    configure();
    process_ = std::make_unique<Background>(command(), Environment{});
    if (eventually([&] { return answers(port_); }, 10)) return;
    process_.reset();
    port_ = 0;
  }
  ADD_FAILURE() << name_of(kind_) << " does not start: " << log();
}

std::string Server::log() const {
  return run_script("cat " + files.path() + "/log* 2>/dev/null || true").out +
         (process_ ? process_->output() : "");
}

std::vector<std::string> Server::command() const {
  std::string conf = files / "conf";
  switch (kind_) {
    case ServerKind::kSftp:
      return {"/usr/sbin/sshd", "-D", "-f", conf, "-E", files / "log"};
    case ServerKind::kNginx:
      return {"/usr/sbin/nginx", "-p", files.path(), "-c", conf, "-e", files / "log"};
    case ServerKind::kApache:
      return {"/usr/sbin/apache2", "-f", conf, "-DFOREGROUND"};
    case ServerKind::kFtps:
      return {"/usr/sbin/vsftpd", conf};
  }
  return {};
}

void Server::configure() {
  std::string here = files.path(), conf;
  switch (kind_) {
    case ServerKind::kSftp:
      conf = more_ + fmt::format(
                         "Port {0}\nListenAddress 127.0.0.1\nHostKey {1}/hostkey\nHostKey "
                         "{1}/hostkey2\nAuthorizedKeysFile {1}/userkey.pub\nPidFile {1}/pid\n"
                         "UsePAM no\nStrictModes no\nPasswordAuthentication no\n"
                         "KbdInteractiveAuthentication no\nPermitRootLogin yes\nMaxStartups 100\n",
                         port_, here);
      if (more_.find("Subsystem") != std::string::npos) break;
      conf += fmt::format("Subsystem sftp internal-sftp{}\n",
                          allows_ == Allows::kNoRemoval  ? " -P remove,rmdir"
                          : allows_ == Allows::kNoRename ? " -P rename,posix-rename"
                                                         : "");
      break;
    case ServerKind::kNginx:
      fs::create_directories(files / "temp");
      run_script("chown nobody " + (files / "temp") +
                 " && printf 'desk:%s\\n' \"$(openssl passwd "
                 "-apr1 'key under the mat')\" > " +
                 (files / "users") + " && chmod 644 " + (files / "users"));
      conf = fmt::format(
          "load_module /usr/lib/nginx/modules/ngx_http_dav_ext_module.so;\n"
          "daemon off;\nuser nobody nogroup;\nworker_processes 1;\npid {1}/pid;\n"
          "events {{ worker_connections 256; }}\n"
          "http {{ access_log off; client_body_temp_path {1}/temp; proxy_temp_path {1}/temp;\n"
          " fastcgi_temp_path {1}/temp; uwsgi_temp_path {1}/temp; scgi_temp_path {1}/temp;\n"
          " server {{ listen 127.0.0.1:{0} ssl; server_name localhost; root {1}/root;\n"
          "  ssl_certificate {1}/cert.pem; ssl_certificate_key {1}/key.pem;\n"
          "  auth_basic x; auth_basic_user_file {1}/users; client_max_body_size 50m;\n"
          "  location / {{ dav_methods PUT MKCOL{2}; dav_ext_methods PROPFIND;\n"
          "   dav_access user:rw; }} }} }}\n",
          port_, here,
          allows_ == Allows::kNoRemoval  ? " COPY MOVE"
          : allows_ == Allows::kNoRename ? " DELETE"
                                         : " DELETE COPY MOVE");
      break;
    case ServerKind::kApache:
      conf = fmt::format(
          "ServerRoot {1}\nListen 127.0.0.1:{0}\nServerName localhost\nPidFile {1}/pid\n"
          "ErrorLog {1}/log\nUser nobody\nGroup nogroup\nDavLockDB {1}/temp/lock\n",
          port_, here);
      for (const char* module : {"mpm_event", "authz_core", "dav", "dav_fs"}) {
        conf += fmt::format("LoadModule {0}_module /usr/lib/apache2/modules/mod_{0}.so\n", module);
      }
      conf += fmt::format(
          "DocumentRoot {0}/root\n<Directory {0}/root>\nDav On\n{1}</Directory>\n", here,
          allows_ != Allows::kAll
              ? fmt::format("<Limit {0}>\nRequire all denied\n</Limit>\n<LimitExcept {0}>\n"
                            "Require all granted\n</LimitExcept>\n",
                            allows_ == Allows::kNoRemoval ? "DELETE" : "MOVE COPY")
              : "Require all granted\n");
      fs::create_directories(files / "temp");
      run_script("chown nobody " + (files / "temp"));
      break;
    case ServerKind::kFtps:
      conf = fmt::format(
          "listen=YES\nlisten_address=127.0.0.1\nlisten_port={0}\nbackground=NO\n"
          "anonymous_enable=YES\nno_anon_password=YES\nanon_root={1}/root\nftp_username=ftp\n"
          "local_enable=NO\nwrite_enable=YES\nanon_upload_enable=YES\nanon_mkdir_write_enable=YES\n"
          "anon_other_write_enable=YES\nanon_world_readable_only=NO\nanon_umask=077\n"
          "ssl_enable=YES\nallow_anon_ssl=YES\nforce_anon_logins_ssl=YES\nforce_anon_data_ssl=YES\n"
          "rsa_cert_file={1}/cert.pem\nrsa_private_key_file={1}/key.pem\nrequire_ssl_reuse=NO\n"
          "{2}vsftpd_log_file={1}/log\nxferlog_enable=YES\nsecure_chroot_dir={1}/empty\n"
          "seccomp_sandbox=NO\npasv_address=127.0.0.1\n",
          port_, here,
          allows_ == Allows::kNoRemoval  ? "cmds_denied=DELE,RMD\n"
          : allows_ == Allows::kNoRename ? "cmds_denied=RNFR,RNTO\n"
                                         : "");
      fs::create_directories(files / "empty");
      break;
  }
  put_file(files / "conf", conf, 0600);
}

std::string Server::place(const Proxy* proxy) const {
  int port = proxy != nullptr ? proxy->port() : port_;
  switch (kind_) {
    case ServerKind::kSftp:
      return fmt::format("sftp://root@127.0.0.1:{}{}", port, folder());
    case ServerKind::kNginx:
      return fmt::format("webdavs://desk@localhost:{}/place", port);
    case ServerKind::kApache:
      return fmt::format("webdav://127.0.0.1:{}/place", port);
    case ServerKind::kFtps:
      return fmt::format("ftps://localhost:{}/place", port);
  }
  return "";
}

void Server::introduce(Desk& desk, const Proxy* proxy) const {
  std::string home = desk.folder / "person";
  fs::create_directories(home + "/.ssh");
  desk.environment["HOME"] = home;
  desk.environment["SSH_AUTH_SOCK"] = "";
  int port = proxy != nullptr ? proxy->port() : port_;
  if (kind_ == ServerKind::kSftp) {
    run_script(
        fmt::format("cp {0}/userkey {1}/.ssh/id_ed25519 && cp {0}/userkey.pub "
                    "{1}/.ssh/id_ed25519.pub && printf '[127.0.0.1]:%s %s\\n' {2} \"$(cut "
                    "-d' ' -f1-2 {0}/hostkey.pub)\" >> {1}/.ssh/known_hosts",
                    files.path(), home, port));
  }
  std::string config = desk.environment.at("KESTRUM_HOME");
  std::string table = fmt::format("[\"localhost:{}\"]\nca = \"{}/cert.pem\"\n", port, files.path());
  if (kind_ == ServerKind::kNginx) {
    put_file(home + "/password", "key under the mat\n", 0600);
    table += "password_from = \"" + home + "/password\"\n";
  }
  if (kind_ != ServerKind::kNginx && kind_ != ServerKind::kFtps) return;
  fs::create_directories(config);
  put_file(config + "/places.toml", table, 0600);
}

}  // namespace kestrum::test
