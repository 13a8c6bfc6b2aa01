#include "kestrum/remote/ssh_connection.h"

#include <fcntl.h>
#include <poll.h>
#include <sys/socket.h>

#include <cerrno>
#include <cstdlib>
#include <memory>
#include <string_view>
#include <utility>

#include "kestrum/base/clock.h"
#include "kestrum/base/text.h"
#include "kestrum/remote/host_key.h"
#include "kestrum/remote/ssh_methods.h"
#include "kestrum/remote/tcp.h"

namespace kestrum {
namespace {

constexpr Nanos kToConnect = 20 * kSecond;
constexpr Nanos kMostSilence = 5 * kMinute;  // of a server that was asked something
constexpr int kLongestPoll = 1000;           // milliseconds

}  // namespace

SshConnection::SshConnection(SshAccess& server) : server_(server), silence_(kToConnect) {
  session_ = ssh_new();
  if (session_ == nullptr) throw Error(ErrorKind::kFailed, "no client for servers can be had");
  const RemoteAddress& address = server_.address();
  Nanos began = steady_now();
  std::string why;
  try {
    socket_ =
        connect_tcp(address.host, address.port == 0 ? kSshPort : address.port, kToConnect, why);
    if (!socket_) server_.unable("/", why);
    open();
  } catch (...) {
    close();
    throw;
  }
  server_.note_connecting(steady_now() - began);
  silence_ = kMostSilence;
}

SshConnection::~SshConnection() {
  close();
}

void SshConnection::set(ssh_options_e option, const void* value) {
  if (ssh_options_set(session_, option, value) == 0) return;
  throw Error(ErrorKind::kFailed, server_.address().host_and_port() + ": it cannot be connected to")
      .about_path(server_.url("/"));
}

void SshConnection::open() {
  ssh_set_blocking(session_, 0);
  const bool no_files_of_its_own = false;
  const KnownKeys known(server_.known_hosts(), server_.address());
  set(SSH_OPTIONS_PROCESS_CONFIG, &no_files_of_its_own);
  set(SSH_OPTIONS_SSH_DIR, ssh_folder());
  // Not its name: the library is particular about names, and who that is, is looked at here.
  set(SSH_OPTIONS_HOST, std::string("server"));
  set(SSH_OPTIONS_HOSTKEYS, known.methods());
  for (ssh_options_e direction : {SSH_OPTIONS_CIPHERS_C_S, SSH_OPTIONS_CIPHERS_S_C}) {
    set(direction, ciphers_by_speed());
  }
  for (ssh_options_e direction : {SSH_OPTIONS_HMAC_C_S, SSH_OPTIONS_HMAC_S_C}) {
    set(direction, message_codes_by_speed());
  }
  const int theirs = ::fcntl(socket_.get(), F_DUPFD_CLOEXEC, 0);
  if (theirs < 0) throw system_error(errno, server_.url("/"));
  set(SSH_OPTIONS_FD, &theirs);
  if (finished([&] { return ssh_connect(session_); }, SSH_AGAIN) != SSH_OK) broke();
  check_host(known);
  log_in();
}

// Whatever is wrong with it: what is left of it goes, and nobody is waited for.
void SshConnection::close() {
  if (socket_) ::shutdown(socket_.get(), SHUT_RDWR);
  if (session_ != nullptr) ssh_free(std::exchange(session_, nullptr));
}

void SshConnection::check_host(const KnownKeys& known) {
  ssh_key found = nullptr;
  if (ssh_get_server_publickey(session_, &found) != SSH_OK) broke();
  SshKey key(found, ssh_key_free);
  server_.check_host(known, key.get());
}

void SshConnection::log_in() {
  std::vector<std::string> tried;
  const std::string user = server_.user();
  if (by_keys(user, tried) || by_agent(user) || by_password(user)) return;
  // One that breaks off here, where it let us in before, is in trouble rather than of another mind.
  if (server_.has_answered()) server_.unable("/", "it refuses the login", true);
  server_.refuse_login(tried);
}

// What a way to log in came to. A server ends the connection after a few refusals, and says so;
// where it ended without a word before any, the way broke.
template <typename Call>
bool SshConnection::lets_in_by(Call call) {
  constexpr std::string_view kSentAway = "Received SSH_MSG_DISCONNECT";
  begin_to_wait();
  int answer = call();
  while (answer == SSH_AUTH_AGAIN && ssh_is_connected(session_) != 0) {
    wait();
    answer = call();
  }
  if (answer == SSH_AUTH_SUCCESS) return true;
  bool has_ended = ssh_is_connected(session_) == 0 || !is_connected();
  bool sent_away = std::string_view(ssh_get_error(session_)).starts_with(kSentAway);
  if (has_ended && !sent_away && !refused_) broke();
  refused_ = true;
  return false;
}

bool SshConnection::by_keys(const std::string& user, std::vector<std::string>& tried) {
  for (const std::string& path : server_.keys()) {
    if (ssh_is_connected(session_) == 0) break;
    tried.push_back(path);
    ssh_key found = nullptr;
    // One that needs words to be opened is for an agent.
    if (ssh_pki_import_privkey_file(path.c_str(), nullptr, nullptr, nullptr, &found) != SSH_OK) {
      continue;
    }
    SshKey key(found, ssh_key_free);
    auto by_it = [&] { return ssh_userauth_publickey(session_, user.c_str(), key.get()); };
    if (!lets_in_by(by_it)) continue;
    server_.prefer(path);
    return true;
  }
  return false;
}

bool SshConnection::by_agent(const std::string& user) {
  const char* socket = std::getenv("SSH_AUTH_SOCK");
  if (socket == nullptr || socket[0] == '\0') return false;
  return lets_in_by([&] { return ssh_userauth_agent(session_, user.c_str()); });
}

bool SshConnection::by_password(const std::string& user) {
  Secret password = server_.settings().password();
  if (password.empty()) return false;
  password.push_back('\0');  // as the library reads it
  const char* words = password.text().data();
  if (lets_in_by([&] { return ssh_userauth_password(session_, user.c_str(), words); })) return true;
  // Of keyboard-interactive (RFC 4256) the one question is answered that is asked of most.
  return lets_in_by([&] {
    for (;;) {
      int answer = ssh_userauth_kbdint(session_, user.c_str(), nullptr);
      if (answer != SSH_AUTH_INFO) return answer;
      int prompts = ssh_userauth_kbdint_getnprompts(session_);
      bool answered =
          prompts == 0 || (prompts == 1 && ssh_userauth_kbdint_setanswer(session_, 0, words) >= 0);
      if (!answered) return static_cast<int>(SSH_AUTH_DENIED);
    }
  });
}

bool SshConnection::is_connected() const {
  return kestrum::is_connected(socket_.get());
}

bool SshConnection::is_usable() const {
  return !spoiled_ && ssh_is_connected(session_) != 0 && is_connected();
}

void SshConnection::begin_to_wait() {
  active_ = steady_now();
}

void SshConnection::wait() {
  if (ssh_is_connected(session_) == 0) broke();
  acknowledge_at_once(socket_.get());
  bool unsent = (ssh_get_poll_flags(session_) & SSH_WRITE_PENDING) != 0;
  pollfd waiting{socket_.get(), static_cast<short>(POLLIN | (unsent ? POLLOUT : 0)), 0};
  if (::poll(&waiting, 1, kLongestPoll) > 0) {
    active_ = steady_now();
  } else if (steady_now() - active_ > silence_) {
    spoil();
    server_.unable("/", "the server does not answer any more");
  }
}

void SshConnection::broke(const std::string& why) {
  spoil();
  std::string told = why.empty() ? printable(ssh_get_error(session_)) : why;
  server_.unable("/", "the connection broke: " + (told.empty() ? "no more is known" : told));
}

void SshConnection::garbled() {
  broke("the server's answer cannot be understood");
}

}  // namespace kestrum
