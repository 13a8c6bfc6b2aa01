#include "kestrum/remote/sftp_store.h"

#include <fmt/format.h>

#include <deque>
#include <map>

#include "kestrum/base/file.h"
#include "kestrum/remote/sftp_reader.h"
#include "kestrum/remote/sftp_sender.h"

namespace kestrum {
namespace {

constexpr std::size_t kListsAhead = 2;      // requests for what a folder has
constexpr std::uint32_t kOwnFolder = 0700;  // mode

const char* words_of(std::uint32_t refusal) {
  static const std::map<std::uint32_t, const char*> kWords = {
      {sftp::kNoSuchFile, "it is not there"},
      {sftp::kPermissionDenied, "permission denied"},
      {sftp::kBadMessage, "the server does not take this name"},
      {sftp::kUnsupported, "the server does not offer that"},
      {sftp::kWriteProtected, "the server's disk is protected from writing"},
  };
  auto it = kWords.find(refusal);
  return it == kWords.end() ? nullptr : it->second;
}

bool is_not_there(std::uint32_t refusal) {
  return refusal == sftp::kNoSuchFile || refusal == sftp::kNoSuchPath;
}

sftp::Body of(const std::string& path) {
  return std::move(sftp::Body().text(path));
}

sftp::Body to_read(const std::string& path) {
  return std::move(of(path).number(sftp::kToRead).number(0));
}

}  // namespace

Error SftpStore::told(const std::string& path, std::uint32_t refused) const {
  if (refused == sftp::kNoSpace || refused == sftp::kQuotaExceeded) {
    return refusal(path, ErrorKind::kNoRoom, "the server's disk is full");
  }
  const char* words = words_of(refused);
  return refusal(
      path, ErrorKind::kFailed,
      words != nullptr ? words : fmt::format("the server says that it failed ({})", refused));
}

std::optional<Error> SftpStore::command(Verb verb, const std::string& path, const std::string& to) {
  SftpServer::Lease session = server_->session();
  auto ask = [&] {
    switch (verb) {
      case Verb::kMakeFolder:
        return session->call(sftp::Type::kMakeFolder, of(path).mode(kOwnFolder));
      case Verb::kRemoveFile:
        return session->call(sftp::Type::kRemove, of(path));
      case Verb::kRemoveFolder:
        return session->call(sftp::Type::kRemoveFolder, of(path));
      case Verb::kRename:
        break;
    }
    return session->call(sftp::Type::kRename, of(path).text(to));
  };
  auto refused = session->refusal(ask(), sftp::Type::kStatus);
  return refused ? std::optional(told(to.empty() ? path : to, *refused)) : std::nullopt;
}

std::optional<sftp::Attributes> SftpStore::look(const std::string& path) {
  SftpServer::Lease session = server_->session();
  SftpSession::Answer answer = session->call(sftp::Type::kStat, of(path));
  if (auto refused = session->refusal(answer, sftp::Type::kAttributes)) {
    if (is_not_there(*refused)) return std::nullopt;
    throw told(path, *refused);
  }
  sftp::Fields fields(answer.body);
  auto attributes = sftp::attributes_of(fields);
  if (!attributes) session->garbled();
  return attributes;
}

std::optional<std::uint64_t> SftpStore::size(const std::string& path) {
  auto attributes = look(path);
  return attributes ? std::optional(attributes->size.value_or(0)) : std::nullopt;
}

bool SftpStore::names_folder(const std::string& path) {
  auto attributes = look(path);
  return attributes && attributes->is_folder();
}

std::optional<std::vector<PlaceEntry>> SftpStore::list(const std::string& folder) {
  SftpServer::Lease session = server_->session();
  SftpChannel& channel = session->channel();
  SftpSession::Opened opened = session->open(sftp::Type::kOpenFolder, of(folder));
  if (opened.refused) {
    if (is_not_there(*opened.refused)) return std::nullopt;
    throw told(folder, *opened.refused);
  }
  std::vector<PlaceEntry> entries;
  std::optional<std::uint32_t> refused;
  for (std::deque<SftpChannel::Id> asked;;) {
    while (!refused && asked.size() < kListsAhead) {
      asked.push_back(channel.ask(sftp::Type::kReadFolder, of(opened.handle)));
    }
    if (asked.empty()) break;
    SftpSession::Answer answer = session->answer(channel, asked.front());
    asked.pop_front();
    auto ended = session->refusal(answer, sftp::Type::kNames);
    if (!refused) refused = ended;
    if (ended) continue;
    auto names = sftp::names_of(answer.body);
    if (!names) session->garbled();
    for (sftp::Name& name : *names) {
      if (name.name == "." || name.name == "..") continue;
      PlaceEntry entry;
      entry.name = std::move(name.name);
      entry.is_folder = name.attributes.is_folder();
      entry.size = name.attributes.size.value_or(0);
      entries.push_back(std::move(entry));
    }
  }
  session->let_go(opened.handle, channel);
  if (refused != sftp::kEndOfFile) throw told(folder, *refused);
  return entries;
}

bool SftpStore::receive(const std::string& path, const Stretch& stretch, const Sink& sink) {
  SftpServer::Lease session = server_->session();
  SftpSession::Opened opened = session->open(sftp::Type::kOpen, to_read(path));
  if (opened.refused) {
    if (*opened.refused == sftp::kNoSuchFile) return false;
    throw told(path, *opened.refused);
  }
  SftpReader reader(*session, opened.handle);
  if (auto refused = reader.read(stretch.from, stretch.wanted, stretch.large, sink)) {
    throw told(path, *refused);
  }
  return true;
}

bool SftpStore::follow(const std::string& path, std::uint64_t& at, const Following& following) {
  SftpServer::Lease session = server_->session();
  SftpSession::Opened opened = session->open(sftp::Type::kOpen, to_read(path));
  if (opened.refused) throw told(path, *opened.refused);
  SftpReader reader(*session, opened.handle);
  for (std::uint64_t end; (end = following.until(at)) > at;) {
    auto refused = reader.read(at, end - at, true, [&](ByteView bytes) {
      following.sink(bytes);
      at += bytes.size();
      return true;
    });
    if (refused) throw told(path, *refused);
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
}

std::optional<Room> SftpStore::room(const std::string& folder) {
  const char* extension = "statvfs@openssh.com";
  SftpServer::Lease session = server_->session();
  if (!session->channel().offers(extension)) return std::nullopt;
  SftpSession::Answer answer =
      session->call(sftp::Type::kExtended, sftp::Body().text(extension).text(folder));
  if (session->refusal(answer, sftp::Type::kExtendedReply)) return std::nullopt;
  auto disk = sftp::disk_of(answer.body);
  if (!disk) session->garbled();
  return Room{disk->free, disk->total};
}

}  // namespace kestrum
