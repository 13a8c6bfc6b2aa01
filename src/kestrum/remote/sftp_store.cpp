#include "kestrum/remote/sftp_store.h"

#include <fmt/format.h>

#include <algorithm>
#include <array>
#include <map>

#include "kestrum/base/file.h"
#include "kestrum/base/text.h"

namespace kestrum {
namespace {

// As commands of libcurl take a name.
std::string quoted_name(const std::string& path) {
  std::string text = "\"";
  for (char c : path) {
    if (c == '"' || c == '\\') text += '\\';
    text += c;
  }
  return text + "\"";
}

// A line as of ls -l, which is how servers tell more than names in this version of the protocol:
// "drwxr-xr-x    3 root     root         4096 Nov 29 14:41 name".
std::optional<PlaceEntry> listed_entry(std::string_view line) {
  constexpr std::size_t kFieldsBeforeName = 8, kSize = 4;
  while (!line.empty() && (line.back() == '\n' || line.back() == '\r')) line.remove_suffix(1);
  if (line.empty()) return std::nullopt;
  PlaceEntry entry;
  entry.is_folder = line.front() == 'd';
  std::size_t at = 0;
  for (std::size_t field = 0; field < kFieldsBeforeName; ++field) {
    std::size_t end = line.find(' ', at);
    if (end == std::string_view::npos) return std::nullopt;
    if (field == kSize) {
      std::string_view digits = line.substr(at, end - at);
      for (char c : digits) {
        if (c < '0' || c > '9') return std::nullopt;
        entry.size = entry.size * 10 + static_cast<std::uint64_t>(c - '0');
      }
    }
    at = line.find_first_not_of(' ', end);
    if (at == std::string_view::npos) return std::nullopt;
  }
  // The name may begin with blanks of its own: one stands between.
  entry.name = line.substr(at);
  return entry;
}

}  // namespace

void SftpStore::fail(const std::string& path, const Reply& reply) {
  std::string where = connections_->url(path);
  if (reply.code == CURLE_REMOTE_DISK_FULL) {
    throw Error(ErrorKind::kNoRoom, where + ": the server's disk is full").about_path(where);
  }
  throw Error(ErrorKind::kFailed, where + ": " + reply.problem).about_path(where);
}

std::optional<std::string> SftpStore::command(const std::string& command) {
  Exchange exchange;
  exchange.path = "/";
  exchange.no_body = true;
  exchange.commands = {command};
  Reply reply = connections_->perform(exchange);
  if (reply.code == CURLE_OK) return std::nullopt;
  return reply.problem;
}

std::optional<std::uint64_t> SftpStore::size(const std::string& path) {
  Exchange exchange;
  exchange.path = path;
  exchange.no_body = true;
  Reply reply = connections_->perform(exchange);
  if (reply.code == CURLE_REMOTE_FILE_NOT_FOUND) return std::nullopt;
  if (reply.code != CURLE_OK) fail(path, reply);
  return static_cast<std::uint64_t>(std::max<std::int64_t>(reply.length, 0));
}

std::optional<std::vector<PlaceEntry>> SftpStore::list(const std::string& folder) {
  std::string text;
  Exchange exchange;
  exchange.path = folder == "/" ? folder : folder + "/";
  exchange.received = [&](ByteView bytes) {
    text += as_text(bytes);
    return true;
  };
  Reply reply = connections_->perform(exchange);
  if (reply.code == CURLE_REMOTE_FILE_NOT_FOUND) return std::nullopt;
  if (reply.code != CURLE_OK) fail(folder, reply);
  std::vector<PlaceEntry> entries;
  for (const std::string& line : split(text, '\n')) {
    if (line.empty()) continue;
    auto entry = listed_entry(line);
    if (!entry) {
      throw Error(ErrorKind::kFailed,
                  connections_->url(folder) +
                      ": the server's list cannot be understood: " + printable(line))
          .about_path(connections_->url(folder));
    }
    if (entry->name != "." && entry->name != "..") entries.push_back(std::move(*entry));
  }
  return entries;
}

bool SftpStore::make_folder(const std::string& path) {
  auto problem = command("mkdir " + quoted_name(path));
  if (!problem || size(path)) return true;
  if (!size(parent_of(path))) return false;
  throw Error(ErrorKind::kFailed, connections_->url(path) + ": " + *problem)
      .about_path(connections_->url(path));
}

void SftpStore::remove_file(const std::string& path) {
  auto problem = command("rm " + quoted_name(path));
  if (!problem || !size(path)) return;
  throw Error(ErrorKind::kFailed, connections_->url(path) + ": " + *problem)
      .about_path(connections_->url(path));
}

void SftpStore::remove_folder(const std::string& path) {
  auto entries = list(path);
  if (!entries) return;
  for (const PlaceEntry& entry : *entries) {
    std::string inside = path_below(path, entry.name);
    entry.is_folder ? remove_folder(inside) : remove_file(inside);
  }
  auto problem = command("rmdir " + quoted_name(path));
  if (!problem || !size(path)) return;
  throw Error(ErrorKind::kFailed, connections_->url(path) + ": " + *problem)
      .about_path(connections_->url(path));
}

void SftpStore::rename(const std::string& from, const std::string& to) {
  auto problem = command("rename " + quoted_name(from) + " " + quoted_name(to));
  if (!problem) return;
  throw Error(ErrorKind::kFailed, connections_->url(to) + ": " + *problem)
      .about_path(connections_->url(to));
}

void SftpStore::receive(const std::string& path, std::uint64_t offset, std::uint64_t length, bool,
                        const Sink& sink) {
  bool broken_off = false;
  Exchange exchange;
  exchange.path = path;
  exchange.range = {offset, offset + length - 1};
  exchange.large = length >= kLarge;
  exchange.received = [&](ByteView bytes) {
    broken_off = !sink(bytes);
    return !broken_off;
  };
  Reply reply = connections_->perform(exchange);
  bool beyond_its_end = reply.code == CURLE_BAD_DOWNLOAD_RESUME || reply.code == CURLE_RANGE_ERROR;
  if (broken_off || reply.code == CURLE_OK || beyond_its_end) return;
  if (reply.code == CURLE_REMOTE_FILE_NOT_FOUND) {
    std::string where = connections_->url(path);
    throw Error(ErrorKind::kDamage, where + ": it is not there").about_path(where);
  }
  fail(path, reply);
}

std::optional<Bytes> SftpStore::read_whole(const std::string& path, std::uint64_t limit) {
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

void SftpStore::write(const std::string& path, std::uint64_t offset, Content content) {
  Exchange exchange;
  exchange.path = path;
  exchange.upload = std::move(content.fill);
  exchange.upload_size = content.size;
  exchange.rewind = std::move(content.rewind);
  exchange.upload_from = offset;
  Reply reply = connections_->perform(exchange);
  if (reply.code != CURLE_OK) fail(path, reply);
}

std::optional<Room> SftpStore::room(const std::string& folder) {
  std::map<std::string, std::uint64_t, std::less<>> told;
  Exchange exchange;
  exchange.path = "/";
  exchange.no_body = true;
  exchange.commands = {"statvfs " + quoted_name(folder)};
  exchange.header = [&](std::string_view lines) {
    for (const std::string& line : split(lines, '\n')) {
      std::size_t colon = line.find(": ");
      if (colon == std::string::npos) continue;
      std::uint64_t value = 0;
      for (char c : line.substr(colon + 2)) {
        if (c >= '0' && c <= '9') value = value * 10 + static_cast<std::uint64_t>(c - '0');
      }
      told[line.substr(0, colon)] = value;
    }
  };
  Reply reply = connections_->perform(exchange);
  if (reply.code != CURLE_OK || !told.contains("f_bavail")) return std::nullopt;
  std::uint64_t unit = told["f_frsize"] != 0 ? told["f_frsize"] : told["f_bsize"];
  return Room{told["f_bavail"] * unit, told["f_blocks"] * unit};
}

}  // namespace kestrum
