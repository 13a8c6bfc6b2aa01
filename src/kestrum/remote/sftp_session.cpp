#include "kestrum/remote/sftp_session.h"

#include <poll.h>
#include <sys/socket.h>

#include <cstdlib>
#include <cstring>
#include <set>
#include <string_view>

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
constexpr int kClosingCalls = 100;           // of one that is gone: it never takes as many

// For the callback of keyboard-interactive (RFC 4256), which is given nothing of ours.
thread_local const Secret* asked_password = nullptr;

void answer_with_password(const char*, int, const char*, int, int prompts,
                          const LIBSSH2_USERAUTH_KBDINT_PROMPT*,
                          LIBSSH2_USERAUTH_KBDINT_RESPONSE* responses, void**) {
  if (prompts != 1 || asked_password == nullptr) return;
  std::string_view text = asked_password->text();
  auto* copy = static_cast<char*>(std::malloc(text.size() + 1));
  if (copy == nullptr) return;
  std::memcpy(copy, text.data(), text.size());
  copy[text.size()] = '\0';
  responses[0].text = copy;  // freed by libssh2
  responses[0].length = static_cast<unsigned>(text.size());
}

}  // namespace

SftpSession::SftpSession(SshAccess& server) : server_(server), silence_(kToConnect) {
  const RemoteAddress& address = server_.address();
  Nanos began = steady_now();
  std::string why;
  socket_ = connect_tcp(address.host, address.port == 0 ? kSshPort : address.port, kToConnect, why);
  if (!socket_) server_.unable("/", why);
  try {
    open();
  } catch (...) {
    close();
    throw;
  }
  server_.note_connecting(steady_now() - began);
  silence_ = kMostSilence;
}

SftpSession::~SftpSession() {
  close();
}

void SftpSession::open() {
  session_ = libssh2_session_init_ex(nullptr, nullptr, nullptr, nullptr);
  if (session_ == nullptr) throw Error(ErrorKind::kFailed, "no client for servers can be had");
  libssh2_session_set_blocking(session_, 0);
  KnownHosts known(session_, server_.known_hosts());
  prefer(LIBSSH2_METHOD_HOSTKEY, known.preferred_kinds(server_.address()));
  for (int direction : {LIBSSH2_METHOD_MAC_CS, LIBSSH2_METHOD_MAC_SC}) {
    prefer(direction, message_codes_by_speed());
  }
  if (finished([&] { return libssh2_session_handshake(session_, socket_.get()); }) != 0) broke();
  check_host();
  log_in();
  constexpr Nanos kRoundTrips = 3;  // of what follows
  Nanos began = steady_now();
  sftp_ = finished([&] { return libssh2_sftp_init(session_); });
  server_.note_round_trip((steady_now() - began) / kRoundTrips);
  if (sftp_ == nullptr) {
    if (!is_connected(socket_.get())) broke();
    throw Error(ErrorKind::kPlace,
                server_.address().host_and_port() + ": it lets in, but offers no files by SFTP",
                "whether SFTP is allowed there is for whoever runs it to say")
        .about_path(server_.url("/"));
  }
  server_.note_answer();
}

void SftpSession::prefer(int method, const std::vector<std::string>& names) {
  const char** supported = nullptr;
  int count = libssh2_session_supported_algs(session_, method, &supported);
  if (count <= 0) return;
  std::set<std::string> known(supported, supported + count);
  libssh2_free(session_, supported);
  std::string list;
  for (const std::string& name : names) {
    if (known.contains(name)) list.append(list.empty() ? "" : ",").append(name);
  }
  if (!list.empty()) libssh2_session_method_pref(session_, method, list.c_str());
}

// Whatever is wrong with it: what is left of it goes.
void SftpSession::close() {
  if (socket_) ::shutdown(socket_.get(), SHUT_RDWR);
  auto until_done = [](auto call) {
    for (int i = 0; i < kClosingCalls && call() == LIBSSH2_ERROR_EAGAIN; ++i) {
    }
  };
  for (LIBSSH2_SFTP_HANDLE* handle : let_go_) {
    until_done([&] { return libssh2_sftp_close_handle(handle); });
  }
  let_go_.clear();
  for (LIBSSH2_SFTP* sftp : {second_, sftp_}) {
    if (sftp != nullptr) until_done([&] { return libssh2_sftp_shutdown(sftp); });
  }
  if (session_ != nullptr) until_done([&] { return libssh2_session_free(session_); });
  sftp_ = second_ = nullptr;
  session_ = nullptr;
}

void SftpSession::check_host() {
  std::size_t length = 0;
  int type = 0;
  const char* key = libssh2_session_hostkey(session_, &length, &type);
  if (key == nullptr) broke();
  server_.check_host(session_, {key, length}, type);
}

void SftpSession::log_in() {
  std::vector<std::string> tried;
  std::string user = server_.user();
  if (by_keys(user, tried) || by_agent(user) || by_password(user)) return;
  // One that breaks off here, where it let us in before, is in trouble rather than of another mind.
  if (server_.has_answered()) server_.unable("/", "it refuses the login", true);
  server_.refuse_login(tried);
}

// What a way to log in came to. Many a library call answers alike whether the server said no or the
// connection broke; then nobody is there any more. A server ends it after a few refusals, too.
bool SftpSession::accepted(int answer) {
  if (answer == 0) return true;
  if (!is_connected(socket_.get()) && !refused_) broke();
  refused_ = true;
  return false;
}

bool SftpSession::by_keys(const std::string& user, std::vector<std::string>& tried) {
  for (const std::string& key : server_.keys()) {
    tried.push_back(key);
    int answer = finished([&] {
      return libssh2_userauth_publickey_fromfile_ex(
          session_, user.data(), static_cast<unsigned>(user.size()), nullptr, key.c_str(), nullptr);
    });
    if (!accepted(answer)) continue;
    server_.prefer(key);
    return true;
  }
  return false;
}

bool SftpSession::by_agent(const std::string& user) {
  const char* socket = std::getenv("SSH_AUTH_SOCK");
  if (socket == nullptr || socket[0] == '\0') return false;
  LIBSSH2_AGENT* agent = libssh2_agent_init(session_);
  if (agent == nullptr) return false;
  auto free = [](LIBSSH2_AGENT* a) {
    libssh2_agent_disconnect(a);
    libssh2_agent_free(a);
  };
  std::unique_ptr<LIBSSH2_AGENT, decltype(free)> freed(agent, free);
  if (libssh2_agent_connect(agent) != 0 || libssh2_agent_list_identities(agent) != 0) return false;
  libssh2_agent_publickey* identity = nullptr;
  libssh2_agent_publickey* before = nullptr;
  while (libssh2_agent_get_identity(agent, &identity, before) == 0) {
    int answer = finished([&] { return libssh2_agent_userauth(agent, user.c_str(), identity); });
    if (accepted(answer)) return true;
    before = identity;
  }
  return false;
}

bool SftpSession::by_password(const std::string& user) {
  Secret password = server_.settings().password();
  if (password.empty()) return false;
  auto length = static_cast<unsigned>(user.size());
  int answer = finished([&] {
    std::string_view text = password.text();
    return libssh2_userauth_password_ex(session_, user.data(), length, text.data(),
                                        static_cast<unsigned>(text.size()), nullptr);
  });
  if (accepted(answer)) return true;
  asked_password = &password;
  answer = finished([&] {
    return libssh2_userauth_keyboard_interactive_ex(session_, user.data(), length,
                                                    &answer_with_password);
  });
  asked_password = nullptr;
  return accepted(answer);
}

bool SftpSession::is_usable() const {
  return !spoiled_ && is_connected(socket_.get());
}

void SftpSession::begin_to_wait() {
  active_ = steady_now();
}

void SftpSession::wait() {
  for (LIBSSH2_SFTP* sftp : {sftp_, second_}) {
    if (sftp != nullptr && libssh2_channel_eof(libssh2_sftp_get_channel(sftp)) == 1) broke();
  }
  acknowledge_at_once(socket_.get());
  pollfd waiting{socket_.get(), static_cast<short>(POLLIN | (is_half_sent() ? POLLOUT : 0)), 0};
  if (::poll(&waiting, 1, kLongestPoll) > 0) {
    active_ = steady_now();
  } else if (steady_now() - active_ > silence_) {
    spoil();
    server_.unable("/", "the server does not answer any more");
  }
}

bool SftpSession::is_half_sent() const {
  return (libssh2_session_block_directions(session_) & LIBSSH2_SESSION_BLOCK_OUTBOUND) != 0;
}

LIBSSH2_SFTP* SftpSession::second_channel() {
  if (second_ == nullptr) second_ = libssh2_sftp_init(session_);
  return second_;
}

void SftpSession::let_go(LIBSSH2_SFTP_HANDLE* handle) {
  if (spoiled_ || libssh2_sftp_close_handle(handle) == LIBSSH2_ERROR_EAGAIN) {
    let_go_.push_back(handle);
  }
}

void SftpSession::look_at_let_go() {
  std::erase_if(let_go_, [](LIBSSH2_SFTP_HANDLE* handle) {
    return libssh2_sftp_close_handle(handle) != LIBSSH2_ERROR_EAGAIN;
  });
}

std::string SftpSession::problem() const {
  char* text = nullptr;
  int length = 0;
  libssh2_session_last_error(session_, &text, &length, 0);
  std::string told = length > 0
                         ? printable(std::string_view(text, static_cast<std::size_t>(length)))
                         : "no more is known";
  return "the connection broke: " + told;
}

void SftpSession::broke() {
  spoil();
  server_.unable("/", problem());
}

std::optional<unsigned long> SftpSession::refusal(ssize_t answer, LIBSSH2_SFTP* channel) {
  if (answer >= 0) return std::nullopt;
  unsigned long said = LIBSSH2_FX_OK;
  if (answer == LIBSSH2_ERROR_SFTP_PROTOCOL) {
    said = libssh2_sftp_last_error(channel == nullptr ? sftp_ : channel);
  }
  bool about_connection = said == LIBSSH2_FX_OK || said == LIBSSH2_FX_NO_CONNECTION ||
                          said == LIBSSH2_FX_CONNECTION_LOST;
  if (about_connection) broke();
  return said;
}

std::optional<unsigned long> SftpSession::refusal(const void* answer) {
  return answer != nullptr ? std::nullopt : refusal(libssh2_session_last_errno(session_));
}

}  // namespace kestrum
