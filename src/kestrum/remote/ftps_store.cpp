#include "kestrum/remote/ftps_store.h"

#include <fmt/format.h>

#include <algorithm>
#include <cstdlib>

#include "kestrum/base/text.h"

namespace kestrum {
namespace {

constexpr long kNotLoggedIn = 530;  // RFC 959, section 4.2

// A name in a command ends with the line.
const std::string& one_line(const std::string& path) {
  if (path.find_first_of("\r\n") == std::string::npos) return path;
  throw Error(ErrorKind::kUsage, "a line's end in a path cannot be had by FTP");
}

}  // namespace

std::optional<Reply> FtpsStore::commands(const std::vector<std::string>& texts) {
  std::string refused;
  Exchange exchange;
  exchange.path = "/";
  exchange.no_body = true;
  // With the asterisk libcurl goes on after a refusal, and keeps the connection.
  for (const std::string& text : texts) exchange.commands.push_back("*" + text);
  exchange.header = [&](std::string_view line) {
    bool refusal = line.size() > 3 && (line[0] == '4' || line[0] == '5') && line[3] == ' ';
    if (refusal && refused.empty()) refused = trimmed(line);
  };
  Reply reply = connections_->perform(exchange);
  if (reply.code == CURLE_OK && refused.empty()) return std::nullopt;
  if (reply.code == CURLE_OK) {
    reply.code = CURLE_QUOTE_ERROR;
    reply.status = std::atol(refused.c_str());
    reply.problem = printable(refused);
  }
  return reply;
}

Error FtpsStore::told(const std::string& path, const Reply& reply) const {
  if (reply.status == kNotLoggedIn) connections_->refuse_login();
  bool full = reply.code == CURLE_REMOTE_DISK_FULL || reply.status == kFtpNoStorage ||
              reply.status == kFtpOverQuota;
  if (full) return refusal(path, ErrorKind::kNoRoom, "the server's disk is full");
  return refusal(path, ErrorKind::kFailed, reply.problem);
}

std::optional<Error> FtpsStore::command(Verb verb, const std::string& path, const std::string& to) {
  auto done = [&](const std::vector<std::string>& texts) -> std::optional<Error> {
    auto refused = commands(texts);
    return refused ? std::optional(told(to.empty() ? path : to, *refused)) : std::nullopt;
  };
  switch (verb) {
    case Verb::kMakeFolder:
      return done({"MKD " + one_line(path)});
    case Verb::kRemoveFile:
      return done({"DELE " + one_line(path)});
    case Verb::kRemoveFolder:
      return done({"RMD " + one_line(path)});
    case Verb::kRename:
      return done({"RNFR " + one_line(path), "RNTO " + one_line(to)});
  }
  return std::nullopt;
}

bool FtpsStore::finds_folder(const std::string& path) {
  return !commands({"CWD " + one_line(path)});
}

std::optional<std::uint64_t> FtpsStore::size(const std::string& path) {
  Exchange exchange;
  exchange.path = path;
  exchange.no_body = true;
  Reply reply = connections_->perform(exchange);
  if (reply.code == CURLE_OK && reply.length >= 0) return static_cast<std::uint64_t>(reply.length);
  if (finds_folder(path)) return 0;
  return std::nullopt;
}

std::optional<std::vector<PlaceEntry>> FtpsStore::list(const std::string& folder) {
  std::vector<PlaceEntry> entries;
  Exchange exchange;
  exchange.path = folder == "/" ? folder : folder + "/";
  exchange.wildcard = true;
  exchange.listed = [&](const curl_fileinfo& info) {
    bool counts = info.filetype == CURLFILETYPE_DIRECTORY || info.filetype == CURLFILETYPE_FILE;
    if (!counts) return;
    entries.push_back({info.filename, info.filetype == CURLFILETYPE_DIRECTORY,
                       static_cast<std::uint64_t>(std::max<curl_off_t>(info.size, 0))});
  };
  Reply reply = connections_->perform(exchange);
  if (reply.code == CURLE_OK) return entries;
  // Nothing in it, or no folder.
  if (!finds_folder(folder)) return std::nullopt;
  if (reply.code == CURLE_REMOTE_FILE_NOT_FOUND) return entries;
  throw told(folder, reply);
}

bool FtpsStore::receive(const std::string& path, const Stretch& stretch, const Sink& sink) {
  bool broken_off = false;
  Exchange exchange;
  exchange.path = path;
  exchange.range = stretch.range();
  exchange.large = stretch.large;
  exchange.received = [&](ByteView bytes) {
    broken_off = !sink(bytes);
    return !broken_off;
  };
  Reply reply = connections_->perform(exchange);
  bool beyond_its_end = reply.code == CURLE_BAD_DOWNLOAD_RESUME || reply.code == CURLE_RANGE_ERROR;
  if (broken_off || reply.code == CURLE_OK || beyond_its_end) return true;
  if (reply.code == CURLE_REMOTE_FILE_NOT_FOUND) return false;
  throw told(path, reply);
}

void FtpsStore::write(const std::string& path, std::uint64_t offset, Content content) {
  Exchange exchange;
  exchange.path = one_line(path);
  exchange.content = std::move(content);
  exchange.content_from = offset;
  Reply reply = connections_->perform(exchange);
  if (reply.code != CURLE_OK) throw told(path, reply);
}

}  // namespace kestrum
