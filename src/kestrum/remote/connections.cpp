#include "kestrum/remote/connections.h"

#include <fcntl.h>
#include <fmt/format.h>
#include <netinet/in.h>
#include <netinet/tcp.h>
#include <sys/socket.h>
#include <unistd.h>

#include <algorithm>
#include <deque>
#include <map>
#include <utility>

#include "kestrum/base/clock.h"
#include "kestrum/base/text.h"
#include "kestrum/remote/tcp.h"

namespace kestrum {

using Protocol = RemoteAddress::Protocol;

namespace {

constexpr long kConnectSeconds = 20;
constexpr Nanos kSilence = 5 * kMinute;   // of a server that was asked something
constexpr unsigned kUnanswered = 60'000;  // milliseconds until sent data must be acknowledged
constexpr long kBuffer = 32 << 10, kLargeBuffer = 2 << 20;  // bytes
constexpr long kUploadBuffer = 2 << 20;                     // bytes
constexpr std::uint16_t kImplicitTls = 990;                 // port of FTP that begins with TLS
constexpr std::size_t kIdleMost = 4;
constexpr long kFtpRefusal = 400, kFtpClosing = 421;  // RFC 959, section 4.2

using TextList = std::unique_ptr<curl_slist, decltype(&curl_slist_free_all)>;

TextList lines_of(const std::vector<std::string>& texts) {
  TextList lines(nullptr, curl_slist_free_all);
  for (const std::string& text : texts) {
    lines.reset(curl_slist_append(lines.release(), text.c_str()));
  }
  return lines;
}

}  // namespace

struct Connections::Handle {
  // Has the connections; ended after what uses them.
  std::unique_ptr<CURLM, decltype(&curl_multi_cleanup)> multi{curl_multi_init(),
                                                              curl_multi_cleanup};
  std::unique_ptr<CURL, decltype(&curl_easy_cleanup)> curl{curl_easy_init(), curl_easy_cleanup};
  std::deque<curl_socket_t> sockets;  // the newest of its connections

  CURLcode perform() const;
};

// Like curl_easy_perform, which waits a whole second for what it has already read from the socket,
// and would see in the buffer of its TLS: with FTPS several times a file.
CURLcode Connections::Handle::perform() const {
  constexpr int kShortest = 1, kLongest = 200;  // milliseconds
  curl_multi_add_handle(multi.get(), curl.get());
  CURLMcode problem = CURLM_OK;
  for (int running = 1, wait = kShortest; problem == CURLM_OK;) {
    problem = curl_multi_perform(multi.get(), &running);
    if (problem != CURLM_OK || running == 0) break;
    int ready = 0;
    problem = curl_multi_poll(multi.get(), nullptr, 0, wait, &ready);
    wait = ready > 0 ? kShortest : std::min(wait * 2, kLongest);
  }
  CURLcode code = problem == CURLM_OK ? CURLE_OK : CURLE_OUT_OF_MEMORY;
  int left = 0;
  while (const CURLMsg* told = curl_multi_info_read(multi.get(), &left)) {
    if (told->msg == CURLMSG_DONE) code = told->data.result;
  }
  curl_multi_remove_handle(multi.get(), curl.get());
  return code;
}

// One exchange while it is under way.
struct Connections::Call {
  Handle& handle;
  const Exchange& exchange;
  char problem[CURL_ERROR_SIZE] = "";
  std::size_t body_sent = 0;
  Nanos active = steady_now();
  curl_off_t moved = 0;
  bool silent = false;
  bool begun = false;         // something of what is moved was handed over
  std::exception_ptr thrown;  // by what was called back

  template <typename T>
  void set(CURLoption option, T value) {
    curl_easy_setopt(handle.curl.get(), option, value);
  }

  static std::size_t on_body(char* data, std::size_t, std::size_t count, void* self) {
    auto& call = *static_cast<Call*>(self);
    call.active = steady_now();
    call.begun = true;
    if (!call.exchange.received) return count;
    return call.guarded(count, [&] {
      return call.exchange.received(as_bytes({data, count})) ? count : count + 1;
    });
  }
  static std::size_t on_header(char* data, std::size_t, std::size_t count, void* self) {
    auto& call = *static_cast<Call*>(self);
    if (call.exchange.header) call.exchange.header({data, count});
    return count;
  }
  static std::size_t on_upload(char* out, std::size_t, std::size_t count, void* self) {
    auto& call = *static_cast<Call*>(self);
    std::span<std::uint8_t> room(reinterpret_cast<std::uint8_t*>(out), count);
    if (!call.exchange.content.fill) {
      std::size_t some = std::min(count, call.exchange.body.size() - call.body_sent);
      std::copy_n(call.exchange.body.data() + call.body_sent, some, out);
      call.body_sent += some;
      return some;
    }
    call.begun = true;
    std::optional<std::size_t> filled = call.exchange.content.fill(room);
    call.active = steady_now();
    return filled ? *filled : CURL_READFUNC_ABORT;
  }
  // What is to be gone on with is handed over from there on, and only once.
  static int on_seek(void* self, curl_off_t offset, int) {
    auto& call = *static_cast<Call*>(self);
    if (!call.exchange.content.fill) {
      call.body_sent = static_cast<std::size_t>(offset);
      return CURL_SEEKFUNC_OK;
    }
    if (!call.begun) return CURL_SEEKFUNC_OK;
    if (offset != 0 || !call.exchange.content.rewind) return CURL_SEEKFUNC_FAIL;
    call.exchange.content.rewind();
    return CURL_SEEKFUNC_OK;
  }
  static int on_progress(void* self, curl_off_t, curl_off_t down, curl_off_t, curl_off_t up) {
    auto& call = *static_cast<Call*>(self);
    if (down + up != call.moved) {
      call.moved = down + up;
      call.active = steady_now();
    }
    for (curl_socket_t socket : call.handle.sockets) acknowledge_at_once(socket);
    call.silent = steady_now() - call.active > kSilence;
    return call.silent ? 1 : 0;
  }
  static int on_socket(void* self, curl_socket_t socket, curlsocktype) {
    constexpr std::size_t kNewest = 4;
    auto& sockets = static_cast<Call*>(self)->handle.sockets;
    sockets.push_back(socket);
    if (sockets.size() > kNewest) sockets.pop_front();
    ::fcntl(socket, F_SETFD, FD_CLOEXEC);
    ::setsockopt(socket, IPPROTO_TCP, TCP_USER_TIMEOUT, &kUnanswered, sizeof kUnanswered);
    return CURL_SOCKOPT_OK;
  }
  static long on_listed(const void* info, void* self, int) {
    auto& call = *static_cast<Call*>(self);
    if (call.exchange.listed) call.exchange.listed(*static_cast<const curl_fileinfo*>(info));
    return CURL_CHUNK_BGN_FUNC_SKIP;
  }

  template <typename Function>
  std::size_t guarded(std::size_t count, Function function) {
    try {
      return function();
    } catch (...) {
      thrown = std::current_exception();
      return count + 1;
    }
  }
};

Connections::Connections(RemoteAddress address) : RemoteServer(std::move(address)) {}

Connections::~Connections() = default;

std::string Connections::sent_url(const std::string& path) const {
  static const std::map<Protocol, std::string> kSchemes = {{Protocol::kWebdavs, "https://"},
                                                           {Protocol::kWebdav, "http://"},
                                                           {Protocol::kFtps, "ftp://"}};
  bool ftp = address_.protocol == Protocol::kFtps;
  std::string scheme = kSchemes.at(address_.protocol);
  if (ftp && address_.port == kImplicitTls) scheme = "ftps://";
  RemoteAddress server = address_;
  server.user.clear();
  server.path = "/";
  std::string host = server.text();
  host.erase(0, host.find("://") + 3);
  // A path of FTP is absolute only with its slash encoded (RFC 1738, section 3.2.2).
  return scheme + host + (ftp ? "/%2F" : "/") + percent_encoded(path).substr(path.empty() ? 0 : 1);
}

// A handle keeps the size that its buffer had at first.
std::unique_ptr<Connections::Handle> Connections::take(bool large) {
  std::lock_guard lock(mutex_);
  auto& idle = large ? idle_large_ : idle_;
  if (idle.empty()) return std::make_unique<Handle>();
  auto handle = std::move(idle.back());
  idle.pop_back();
  return handle;
}

void Connections::set_access(Call& call) {
  if (!address_.user.empty()) call.set(CURLOPT_USERNAME, address_.user.c_str());
  Secret password = settings_.password();
  if (!password.empty()) {
    password.push_back('\0');
    call.set(CURLOPT_PASSWORD, password.text().data());
  }
  call.set(CURLOPT_HTTPAUTH, static_cast<long>(CURLAUTH_BASIC));
  if (!settings_.ca.empty()) call.set(CURLOPT_CAINFO, settings_.ca.c_str());
  if (address_.protocol == Protocol::kFtps) call.set(CURLOPT_USE_SSL, CURLUSESSL_ALL);
}

void Connections::set_up(Call& call) {
  call.set(CURLOPT_ERRORBUFFER, call.problem);
  call.set(CURLOPT_NOSIGNAL, 1L);
  call.set(CURLOPT_CONNECTTIMEOUT, kConnectSeconds);
  call.set(CURLOPT_TCP_KEEPALIVE, 1L);
  call.set(CURLOPT_PROXY, "");  // places are where their addresses say
  call.set(CURLOPT_PROTOCOLS_STR, "http,https,ftp,ftps");
  call.set(CURLOPT_BUFFERSIZE, call.exchange.large ? kLargeBuffer : kBuffer);
  call.set(CURLOPT_UPLOAD_BUFFERSIZE, kUploadBuffer);
  call.set(CURLOPT_NEW_FILE_PERMS, 0600L);
  call.set(CURLOPT_NEW_DIRECTORY_PERMS, 0700L);
  call.set(CURLOPT_FTP_FILEMETHOD, static_cast<long>(CURLFTPMETHOD_NOCWD));
  call.set(CURLOPT_SOCKOPTFUNCTION, &Call::on_socket);
  call.set(CURLOPT_SOCKOPTDATA, &call);
  call.set(CURLOPT_NOPROGRESS, 0L);
  call.set(CURLOPT_XFERINFOFUNCTION, &Call::on_progress);
  call.set(CURLOPT_XFERINFODATA, &call);
  call.set(CURLOPT_WRITEFUNCTION, &Call::on_body);
  call.set(CURLOPT_WRITEDATA, &call);
  call.set(CURLOPT_HEADERFUNCTION, &Call::on_header);
  call.set(CURLOPT_HEADERDATA, &call);
  call.set(CURLOPT_READFUNCTION, &Call::on_upload);
  call.set(CURLOPT_READDATA, &call);
}

Reply Connections::attempt(Call& call) {
  const Exchange& exchange = call.exchange;
  set_up(call);
  set_access(call);
  std::string url = sent_url(exchange.path);
  if (exchange.wildcard) url += "*";
  call.set(CURLOPT_URL, url.c_str());
  TextList commands = lines_of(exchange.commands), headers = lines_of(exchange.headers);
  if (commands) call.set(CURLOPT_QUOTE, commands.get());
  if (exchange.no_body) call.set(CURLOPT_NOBODY, 1L);
  if (exchange.wildcard) {
    call.set(CURLOPT_WILDCARDMATCH, 1L);
    call.set(CURLOPT_CHUNK_BGN_FUNCTION, &Call::on_listed);
    call.set(CURLOPT_CHUNK_DATA, &call);
  }
  std::string range;
  if (exchange.range) {
    const auto& [first, last] = *exchange.range;
    range = fmt::format("{}-{}", first, last ? std::to_string(*last) : "");
    if (last || first > 0) call.set(CURLOPT_RANGE, range.c_str());
  }
  if (exchange.content.fill || !exchange.body.empty()) {
    call.set(CURLOPT_UPLOAD, 1L);
    auto size = exchange.content.fill ? exchange.content.size : exchange.body.size();
    if (size) call.set(CURLOPT_INFILESIZE_LARGE, static_cast<curl_off_t>(*size));
    call.set(CURLOPT_RESUME_FROM_LARGE, static_cast<curl_off_t>(exchange.content_from));
    call.set(CURLOPT_SEEKFUNCTION, &Call::on_seek);
    call.set(CURLOPT_SEEKDATA, &call);
  }
  if (!exchange.method.empty()) call.set(CURLOPT_CUSTOMREQUEST, exchange.method.c_str());
  if (headers) call.set(CURLOPT_HTTPHEADER, headers.get());

  Reply reply;
  CURL* curl = call.handle.curl.get();
  reply.code = call.handle.perform();
  curl_easy_getinfo(curl, CURLINFO_RESPONSE_CODE, &reply.status);
  curl_off_t length = -1;
  curl_easy_getinfo(curl, CURLINFO_CONTENT_LENGTH_DOWNLOAD_T, &length);
  reply.length = length;
  if (reply.code != CURLE_OK) {
    reply.problem =
        printable(call.problem[0] != '\0' ? call.problem : curl_easy_strerror(reply.code));
  }
  if (call.silent) reply.problem = "the server does not answer any more";
  return reply;
}

Reply Connections::perform(const Exchange& exchange) {
  static const bool kReady = curl_global_init(CURL_GLOBAL_DEFAULT) == CURLE_OK;
  std::unique_ptr<Handle> handle = take(exchange.large);
  if (!kReady || !handle->curl || !handle->multi) {
    throw Error(ErrorKind::kFailed, "no client for servers can be had");
  }
  Call call{*handle, exchange};
  Reply reply = attempt(call);
  curl_easy_reset(handle->curl.get());
  {
    std::lock_guard lock(mutex_);
    auto& idle = exchange.large ? idle_large_ : idle_;
    if (idle.size() < kIdleMost) idle.push_back(std::move(handle));
  }
  if (call.thrown) std::rethrow_exception(call.thrown);
  switch (reply.code) {
    case CURLE_LOGIN_DENIED:
      refuse_login();
    case CURLE_USE_SSL_FAILED:
      throw Error(ErrorKind::kPlace,
                  address_.host_and_port() + ": it does not speak TLS; nothing was sent",
                  "TLS is for whoever runs the server to turn on")
          .about_path(url("/"));
    case CURLE_PEER_FAILED_VERIFICATION:
    case CURLE_SSL_CACERT_BADFILE:
    case CURLE_SSL_CERTPROBLEM:
      throw Error(ErrorKind::kPlace,
                  fmt::format("{}: its certificate is refused: {}", address_.host_and_port(),
                              reply.problem),
                  "a certificate of your own is named as ca in places.toml: kestrum help places")
          .about_path(url("/"));
    case CURLE_COULDNT_RESOLVE_HOST:
    case CURLE_COULDNT_CONNECT:
    case CURLE_OPERATION_TIMEDOUT:
    case CURLE_SSL_CONNECT_ERROR:
    case CURLE_GOT_NOTHING:
    case CURLE_SEND_ERROR:
    case CURLE_RECV_ERROR:
    case CURLE_PARTIAL_FILE:
    case CURLE_SEND_FAIL_REWIND:
    case CURLE_HTTP2:
    case CURLE_HTTP2_STREAM:
    case CURLE_FTP_ACCEPT_FAILED:
    case CURLE_FTP_ACCEPT_TIMEOUT:
    case CURLE_WEIRD_SERVER_REPLY:
      if (reply.status == kFtpNoStorage || reply.status == kFtpOverQuota) break;
      if (address_.protocol == Protocol::kFtps && reply.status >= kFtpRefusal &&
          reply.status != kFtpClosing) {
        unable(exchange.path, fmt::format("the server ended it with {}", reply.status), true);
      }
      unable(exchange.path, reply.problem);
    case CURLE_ABORTED_BY_CALLBACK:
      if (call.silent) unable(exchange.path, reply.problem);
      break;
    default:
      break;
  }
  note_answer();
  return reply;
}

}  // namespace kestrum
