#include "kestrum/remote/tcp.h"

#include <netdb.h>
#include <netinet/in.h>
#include <netinet/tcp.h>
#include <poll.h>
#include <sys/socket.h>

#include <algorithm>
#include <cerrno>
#include <memory>

#include "kestrum/base/clock.h"
#include "kestrum/base/error.h"

namespace kestrum {
namespace {

constexpr int kUnacknowledged = 60'000;  // milliseconds
constexpr Nanos kPollUnit = kSecond / 1000;

void set_option(int socket, int level, int name, int value) {
  ::setsockopt(socket, level, name, &value, sizeof value);
}

// 0, or an errno value.
int connected_within(int socket, const addrinfo& to, Nanos until) {
  if (::connect(socket, to.ai_addr, to.ai_addrlen) == 0) return 0;
  if (errno != EINPROGRESS) return errno;
  pollfd waiting{socket, POLLOUT, 0};
  int ready = -1;
  do {
    Nanos left = std::max<Nanos>(until - steady_now(), 0);
    ready = ::poll(&waiting, 1, static_cast<int>(left / kPollUnit) + 1);
  } while (ready < 0 && errno == EINTR);
  if (ready < 0) return errno;
  if (ready == 0) return ETIMEDOUT;
  int error = 0;
  socklen_t size = sizeof error;
  return ::getsockopt(socket, SOL_SOCKET, SO_ERROR, &error, &size) == 0 ? error : errno;
}

}  // namespace

Fd connect_tcp(const std::string& host, std::uint16_t port, Nanos timeout, std::string& problem) {
  addrinfo wanted{};
  wanted.ai_socktype = SOCK_STREAM;
  wanted.ai_flags = AI_ADDRCONFIG | AI_NUMERICSERV;
  addrinfo* found = nullptr;
  std::string service = std::to_string(port);
  int error = ::getaddrinfo(host.c_str(), service.c_str(), &wanted, &found);
  // Not configured but for the loopback: as good as any other.
  if (error == EAI_NONAME || error == EAI_ADDRFAMILY) {
    wanted.ai_flags = AI_NUMERICSERV;
    error = ::getaddrinfo(host.c_str(), service.c_str(), &wanted, &found);
  }
  if (error != 0) {
    problem = std::string("its name leads nowhere: ") + ::gai_strerror(error);
    return Fd();
  }
  std::unique_ptr<addrinfo, decltype(&::freeaddrinfo)> addresses(found, ::freeaddrinfo);
  Nanos until = steady_now() + timeout;
  for (const addrinfo* to = found; to != nullptr; to = to->ai_next) {
    Fd socket(::socket(to->ai_family, SOCK_STREAM | SOCK_NONBLOCK | SOCK_CLOEXEC, 0));
    int why = socket ? connected_within(socket.get(), *to, until) : errno;
    if (why == 0) {
      set_option(socket.get(), IPPROTO_TCP, TCP_NODELAY, 1);
      set_option(socket.get(), SOL_SOCKET, SO_KEEPALIVE, 1);
      set_option(socket.get(), IPPROTO_TCP, TCP_USER_TIMEOUT, kUnacknowledged);
      return socket;
    }
    problem = "no connection: " + errno_text(why);
  }
  return Fd();
}

void acknowledge_at_once(int socket) {
  set_option(socket, IPPROTO_TCP, TCP_QUICKACK, 1);
}

bool is_connected(int socket) {
  char byte = 0;
  ssize_t got = ::recv(socket, &byte, 1, MSG_PEEK | MSG_DONTWAIT);
  return got > 0 || (got < 0 && (errno == EAGAIN || errno == EWOULDBLOCK));
}

}  // namespace kestrum
