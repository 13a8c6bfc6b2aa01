#include "kestrum/remote/command_store.h"

#include "kestrum/base/file.h"

namespace kestrum {
namespace {

constexpr long kNotLoggedIn = 530;  // of FTP (RFC 959, section 4.2)

}  // namespace

void CommandStore::fail(const std::string& path, const Reply& reply) const {
  if (reply.status == kNotLoggedIn) connections_->refuse_login();
  bool full = reply.code == CURLE_REMOTE_DISK_FULL || reply.status == kFtpNoStorage ||
              reply.status == kFtpOverQuota;
  if (full) refuse(path, ErrorKind::kNoRoom, "the server's disk is full");
  refuse(path, ErrorKind::kFailed, reply.problem);
}

bool CommandStore::make_folder(const std::string& path) {
  auto refused = command(Verb::kMakeFolder, path);
  if (!refused || exists(path)) return true;
  if (!exists(parent_of(path))) return false;
  fail(path, *refused);
}

void CommandStore::remove_file(const std::string& path) {
  auto refused = command(Verb::kRemoveFile, path);
  if (refused && exists(path)) fail(path, *refused);
}

void CommandStore::remove_folder(const std::string& path) {
  auto entries = list(path);
  if (!entries) return;
  for (const PlaceEntry& entry : *entries) {
    std::string inside = path_below(path, entry.name);
    entry.is_folder ? remove_folder(inside) : remove_file(inside);
  }
  auto refused = command(Verb::kRemoveFolder, path);
  if (refused && exists(path)) fail(path, *refused);
}

void CommandStore::rename(const std::string& from, const std::string& to) {
  if (auto refused = command(Verb::kRename, from, to)) fail(to, *refused);
}

bool CommandStore::receive(const std::string& path, const Stretch& stretch, const Sink& sink) {
  bool broken_off = false;
  Exchange exchange;
  exchange.path = path;
  exchange.range = {stretch.from, stretch.last};
  exchange.large = stretch.large;
  exchange.received = [&](ByteView bytes) {
    broken_off = !sink(bytes);
    return !broken_off;
  };
  Reply reply = connections_->perform(exchange);
  bool beyond_its_end = reply.code == CURLE_BAD_DOWNLOAD_RESUME || reply.code == CURLE_RANGE_ERROR;
  if (broken_off || reply.code == CURLE_OK || beyond_its_end) return true;
  if (reply.code == CURLE_REMOTE_FILE_NOT_FOUND) return false;
  fail(path, reply);
}

void CommandStore::write(const std::string& path, std::uint64_t offset, Content content) {
  Exchange exchange;
  exchange.path = path;
  exchange.content = std::move(content);
  exchange.content_from = offset;
  Reply reply = connections_->perform(exchange);
  if (reply.code != CURLE_OK) fail(path, reply);
}

}  // namespace kestrum
