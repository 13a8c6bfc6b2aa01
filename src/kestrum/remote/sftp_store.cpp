#include "kestrum/remote/sftp_store.h"

#include <fmt/format.h>
#include <libssh2_sftp.h>

#include <algorithm>
#include <map>

#include "kestrum/base/file.h"
#include "kestrum/remote/sftp_sender.h"

namespace kestrum {
namespace {

// Bytes. libssh2 asks for so many times as much as there is room for.
constexpr std::uint64_t kAskedAhead = 4;
constexpr std::size_t kReadAtATime = 64 << 10, kReadAtATimeOfMuch = 1 << 20;
constexpr std::size_t kLongestName = 4096;

constexpr long kOwnFolder = 0700;  // mode

const char* words_of(unsigned long refusal) {
  static const std::map<unsigned long, const char*> kWords = {
      {LIBSSH2_FX_NO_SUCH_FILE, "it is not there"},
      {LIBSSH2_FX_PERMISSION_DENIED, "permission denied"},
      {LIBSSH2_FX_BAD_MESSAGE, "the server does not take this name"},
      {LIBSSH2_FX_OP_UNSUPPORTED, "the server does not offer that"},
      {LIBSSH2_FX_WRITE_PROTECT, "the server's disk is protected from writing"},
  };
  auto it = kWords.find(refusal);
  return it == kWords.end() ? nullptr : it->second;
}

}  // namespace

// A file or folder open for reading, on a connection that is kept as long.
class SftpStore::Opened {
 public:
  explicit Opened(SftpServer& server) : session(server.session()) {}
  ~Opened() {
    if (handle_ != nullptr) session->let_go(handle_);
  }
  Opened(const Opened&) = delete;

  // Why the server refuses it.
  std::optional<unsigned long> open(const std::string& path, int type) {
    handle_ = session->finished([&] {
      return libssh2_sftp_open_ex(session->sftp(), path.data(), static_cast<unsigned>(path.size()),
                                  LIBSSH2_FXF_READ, 0, type);
    });
    return session->refusal(handle_);
  }
  LIBSSH2_SFTP_HANDLE* handle() const { return handle_; }

  SftpServer::Lease session;

 private:
  LIBSSH2_SFTP_HANDLE* handle_ = nullptr;
};

Error SftpStore::told(const std::string& path, unsigned long refused) const {
  if (refused == LIBSSH2_FX_NO_SPACE_ON_FILESYSTEM || refused == LIBSSH2_FX_QUOTA_EXCEEDED) {
    return refusal(path, ErrorKind::kNoRoom, "the server's disk is full");
  }
  const char* words = words_of(refused);
  return refusal(
      path, ErrorKind::kFailed,
      words != nullptr ? words : fmt::format("the server says that it failed ({})", refused));
}

std::optional<Error> SftpStore::command(Verb verb, const std::string& path, const std::string& to) {
  auto length = static_cast<unsigned>(path.size());
  SftpServer::Lease session = server_->session();
  int answer = session->finished([&] {
    LIBSSH2_SFTP* sftp = session->sftp();
    switch (verb) {
      case Verb::kMakeFolder:
        return libssh2_sftp_mkdir_ex(sftp, path.data(), length, kOwnFolder);
      case Verb::kRemoveFile:
        return libssh2_sftp_unlink_ex(sftp, path.data(), length);
      case Verb::kRemoveFolder:
        return libssh2_sftp_rmdir_ex(sftp, path.data(), length);
      case Verb::kRename:
        return libssh2_sftp_rename_ex(sftp, path.data(), length, to.data(),
                                      static_cast<unsigned>(to.size()), 0);
    }
    return 0;
  });
  auto refused = session->refusal(answer);
  return refused ? std::optional(told(to.empty() ? path : to, *refused)) : std::nullopt;
}

std::optional<LIBSSH2_SFTP_ATTRIBUTES> SftpStore::look(const std::string& path) {
  LIBSSH2_SFTP_ATTRIBUTES attributes{};
  SftpServer::Lease session = server_->session();
  auto refused = session->refusal(session->finished([&] {
    return libssh2_sftp_stat_ex(session->sftp(), path.data(), static_cast<unsigned>(path.size()),
                                LIBSSH2_SFTP_STAT, &attributes);
  }));
  if (!refused) return attributes;
  if (*refused == LIBSSH2_FX_NO_SUCH_FILE || *refused == LIBSSH2_FX_NO_SUCH_PATH) {
    return std::nullopt;
  }
  throw told(path, *refused);
}

std::optional<std::uint64_t> SftpStore::size(const std::string& path) {
  auto attributes = look(path);
  if (!attributes) return std::nullopt;
  return (attributes->flags & LIBSSH2_SFTP_ATTR_SIZE) != 0 ? attributes->filesize : 0;
}

bool SftpStore::names_folder(const std::string& path) {
  auto attributes = look(path);
  return attributes && (attributes->flags & LIBSSH2_SFTP_ATTR_PERMISSIONS) != 0 &&
         LIBSSH2_SFTP_S_ISDIR(attributes->permissions);
}

std::optional<std::vector<PlaceEntry>> SftpStore::list(const std::string& folder) {
  Opened opened(*server_);
  if (auto refused = opened.open(folder, LIBSSH2_SFTP_OPENDIR)) {
    if (*refused == LIBSSH2_FX_NO_SUCH_FILE || *refused == LIBSSH2_FX_NO_SUCH_PATH) {
      return std::nullopt;
    }
    throw told(folder, *refused);
  }
  std::vector<PlaceEntry> entries;
  std::vector<char> name(kLongestName);
  for (;;) {
    LIBSSH2_SFTP_ATTRIBUTES attributes{};
    int length = opened.session->finished([&] {
      return libssh2_sftp_readdir_ex(opened.handle(), name.data(), name.size(), nullptr, 0,
                                     &attributes);
    });
    if (auto refused = opened.session->refusal(length)) throw told(folder, *refused);
    if (length == 0) return entries;
    PlaceEntry entry;
    entry.name.assign(name.data(), static_cast<std::size_t>(length));
    if (entry.name == "." || entry.name == "..") continue;
    entry.is_folder = (attributes.flags & LIBSSH2_SFTP_ATTR_PERMISSIONS) != 0 &&
                      LIBSSH2_SFTP_S_ISDIR(attributes.permissions);
    if ((attributes.flags & LIBSSH2_SFTP_ATTR_SIZE) != 0) entry.size = attributes.filesize;
    entries.push_back(std::move(entry));
  }
}

bool SftpStore::receive(const std::string& path, const Stretch& stretch, const Sink& sink) {
  Opened file(*server_);
  if (auto refused = file.open(path, LIBSSH2_SFTP_OPENFILE)) {
    if (*refused == LIBSSH2_FX_NO_SUCH_FILE) return false;
    throw told(path, *refused);
  }
  libssh2_sftp_seek64(file.handle(), stretch.from);
  Bytes buffer(stretch.large ? kReadAtATimeOfMuch : kReadAtATime);
  read_on(file, path, stretch.wanted, buffer, sink);
  return true;
}

// The next `wanted` bytes, or what there is; ends when `sink` gives false.
void SftpStore::read_on(Opened& file, const std::string& path, std::uint64_t wanted,
                        std::span<std::uint8_t> buffer, const Sink& sink) const {
  for (std::uint64_t left = wanted; left > 0;) {
    std::uint64_t worth = std::max<std::uint64_t>(left / kAskedAhead, kReadAtATime);
    std::size_t some = std::min({std::uint64_t{buffer.size()}, left, worth});
    ssize_t got = file.session->finished([&] {
      return libssh2_sftp_read(file.handle(), reinterpret_cast<char*>(buffer.data()), some);
    });
    if (auto refused = file.session->refusal(got)) throw told(path, *refused);
    auto bytes = static_cast<std::size_t>(got);
    if (bytes == 0 || !sink(buffer.first(bytes))) break;
    left -= bytes;
  }
}

bool SftpStore::follow(const std::string& path, std::uint64_t& at, const Following& following) {
  Opened file(*server_);
  if (auto refused = file.open(path, LIBSSH2_SFTP_OPENFILE)) throw told(path, *refused);
  libssh2_sftp_seek64(file.handle(), at);
  Bytes buffer(kReadAtATimeOfMuch);
  for (std::uint64_t end; (end = following.until(at)) > at;) {
    read_on(file, path, end - at, buffer, [&](ByteView bytes) {
      following.sink(bytes);
      at += bytes.size();
      return true;
    });
    if (at < end) throw refusal(path, ErrorKind::kDamage, "it ends too early");
  }
  return true;
}

std::uint64_t SftpStore::on_the_way() const {
  return SftpSender::kUnderWay;
}

void SftpStore::write(const std::string& path, std::uint64_t offset, Content content) {
  SftpServer::Lease session = server_->session();
  SftpSender sender(*session, path, offset, content);
  try {
    if (auto refused = sender.run()) throw told(path, *refused);
  } catch (const Error&) {
    session->spoil();  // some of it may be under way
    throw;
  }
  bool syncs = server_->syncs();
  auto refused = sender.end(syncs);
  if (!syncs) server_->note_no_sync();
  if (refused) throw told(path, *refused);
}

std::optional<Room> SftpStore::room(const std::string& folder) {
  LIBSSH2_SFTP_STATVFS told{};
  SftpServer::Lease session = server_->session();
  auto refused = session->refusal(session->finished(
      [&] { return libssh2_sftp_statvfs(session->sftp(), folder.data(), folder.size(), &told); }));
  if (refused) return std::nullopt;
  std::uint64_t unit = told.f_frsize != 0 ? told.f_frsize : told.f_bsize;
  return Room{told.f_bavail * unit, told.f_blocks * unit};
}

}  // namespace kestrum
