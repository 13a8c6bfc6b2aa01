#include "kestrum/remote/ftps_store.h"

#include <fmt/format.h>

#include <algorithm>
#include <cstdlib>

#include "kestrum/base/file.h"
#include "kestrum/base/text.h"

namespace kestrum {
namespace {

constexpr long kNoStorage = 452, kOverQuota = 552, kNotLoggedIn = 530;  // RFC 959, section 4.2

// A name in a command ends with the line.
const std::string& one_line(const std::string& path) {
  if (path.find_first_of("\r\n") == std::string::npos) return path;
  throw Error(ErrorKind::kUsage, "a line's end in a path cannot be had by FTP");
}

}  // namespace

void FtpsStore::fail(const std::string& path, const Reply& reply) {
  std::string where = connections_->url(path);
  if (reply.status == kNotLoggedIn) connections_->refuse_login();
  if (reply.status == kNoStorage || reply.status == kOverQuota ||
      reply.code == CURLE_REMOTE_DISK_FULL) {
    throw Error(ErrorKind::kNoRoom, where + ": the server's disk is full").about_path(where);
  }
  throw Error(ErrorKind::kFailed, where + ": " + reply.problem).about_path(where);
}

std::optional<std::string> FtpsStore::command(const std::vector<std::string>& commands) {
  std::string refused;
  Exchange exchange;
  exchange.path = "/";
  exchange.no_body = true;
  // With the asterisk libcurl goes on after a refusal, and keeps the connection.
  for (const std::string& text : commands) exchange.commands.push_back("*" + text);
  exchange.header = [&](std::string_view line) {
    bool refusal = line.size() > 3 && (line[0] == '4' || line[0] == '5') && line[3] == ' ';
    if (refusal && refused.empty()) refused = trimmed(line);
  };
  Reply reply = connections_->perform(exchange);
  if (reply.code != CURLE_OK) return reply.problem;
  if (refused.empty()) return std::nullopt;
  return refused;
}

bool FtpsStore::finds_folder(const std::string& path) {
  return !command({"CWD " + one_line(path)});
}

void FtpsStore::refuse(const std::string& path, const std::string& problem) {
  Reply reply;
  reply.status = std::atol(problem.c_str());
  reply.code = CURLE_QUOTE_ERROR;
  reply.problem = printable(problem);
  fail(path, reply);
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
  fail(folder, reply);
}

bool FtpsStore::make_folder(const std::string& path) {
  auto refused = command({"MKD " + one_line(path)});
  if (!refused || finds_folder(path)) return true;
  if (!finds_folder(parent_of(path))) return false;
  refuse(path, *refused);
}

void FtpsStore::remove_file(const std::string& path) {
  auto refused = command({"DELE " + one_line(path)});
  if (refused && size(path)) refuse(path, *refused);
}

void FtpsStore::remove_folder(const std::string& path) {
  auto entries = list(path);
  if (!entries) return;
  for (const PlaceEntry& entry : *entries) {
    std::string inside = path_below(path, entry.name);
    entry.is_folder ? remove_folder(inside) : remove_file(inside);
  }
  auto refused = command({"RMD " + one_line(path)});
  if (refused && finds_folder(path)) refuse(path, *refused);
}

void FtpsStore::rename(const std::string& from, const std::string& to) {
  auto refused = command({"RNFR " + one_line(from), "RNTO " + one_line(to)});
  if (refused) refuse(to, *refused);
}

void FtpsStore::receive(const std::string& path, std::uint64_t offset, std::uint64_t length,
                        bool to_end, const Sink& sink) {
  bool broken_off = false;
  Exchange exchange;
  exchange.path = path;
  // A range that ends before the file does costs the connection.
  exchange.range = {offset, to_end ? std::nullopt : std::optional(offset + length - 1)};
  exchange.large = length >= kLarge;
  exchange.received = [&](ByteView bytes) {
    broken_off = !sink(bytes);
    return !broken_off;
  };
  Reply reply = connections_->perform(exchange);
  bool beyond_its_end = reply.code == CURLE_BAD_DOWNLOAD_RESUME;
  if (broken_off || reply.code == CURLE_OK || beyond_its_end) return;
  if (reply.code == CURLE_REMOTE_FILE_NOT_FOUND) {
    std::string where = connections_->url(path);
    throw Error(ErrorKind::kDamage, where + ": it is not there").about_path(where);
  }
  fail(path, reply);
}

std::optional<Bytes> FtpsStore::read_whole(const std::string& path, std::uint64_t limit) {
  Bytes content;
  bool too_long = false;
  Exchange exchange;
  exchange.path = path;
  exchange.received = [&](ByteView bytes) {
    too_long = bytes.size() > limit - content.size();
    if (!too_long) content.insert(content.end(), bytes.begin(), bytes.end());
    return !too_long;
  };
  Reply reply = connections_->perform(exchange);
  if (too_long) {
    std::string where = connections_->url(path);
    throw Error(ErrorKind::kDamage, where + ": longer than it can be").about_path(where);
  }
  if (reply.code == CURLE_OK) return content;
  if (reply.code == CURLE_REMOTE_FILE_NOT_FOUND) return std::nullopt;
  fail(path, reply);
}

void FtpsStore::write(const std::string& path, std::uint64_t offset, Content content) {
  Exchange exchange;
  exchange.path = one_line(path);
  exchange.upload = std::move(content.fill);
  exchange.upload_size = content.size;
  exchange.rewind = std::move(content.rewind);
  exchange.upload_from = offset;
  Reply reply = connections_->perform(exchange);
  if (reply.code != CURLE_OK) fail(path, reply);
}

}  // namespace kestrum
