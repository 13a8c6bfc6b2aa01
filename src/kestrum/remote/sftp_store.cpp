#include "kestrum/remote/sftp_store.h"

#include <fmt/format.h>

#include <array>
#include <map>

#include "kestrum/base/file.h"
#include "kestrum/base/text.h"

namespace kestrum {
namespace {

constexpr std::string_view kNoSuchFile = "No such file or directory";  // of libcurl

// As commands of libcurl take a name.
std::string quoted_name(const std::string& path) {
  std::string text = "\"";
  for (char c : path) {
    if (c == '"' || c == '\\') text += '\\';
    text += c;
  }
  return text + "\"";
}

}  // namespace

std::optional<PlaceEntry> parse_listed(std::string_view line) {
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
      auto size = parse_count(line.substr(at, end - at));
      if (!size) return std::nullopt;
      entry.size = *size;
    }
    at = line.find_first_not_of(' ', end);
    if (at == std::string_view::npos) return std::nullopt;
  }
  // The name may begin with blanks of its own: one stands between.
  entry.name = line.substr(at);
  return entry;
}

std::optional<Reply> SftpStore::command(Verb verb, const std::string& path, const std::string& to) {
  static const std::map<Verb, const char*> kWords = {{Verb::kMakeFolder, "mkdir "},
                                                     {Verb::kRemoveFile, "rm "},
                                                     {Verb::kRemoveFolder, "rmdir "},
                                                     {Verb::kRename, "rename "}};
  Exchange exchange;
  exchange.path = "/";
  exchange.no_body = true;
  exchange.commands = {kWords.at(verb) + quoted_name(path) +
                       (to.empty() ? "" : " " + quoted_name(to))};
  Reply reply = connections_->perform(exchange);
  if (reply.code == CURLE_OK) return std::nullopt;
  return reply;
}

std::optional<std::uint64_t> SftpStore::size(const std::string& path) {
  Exchange exchange;
  exchange.path = path;
  exchange.no_body = true;
  // Of an empty file libcurl tells no length, and neither where the connection breaks once the file
  // is open: that does not happen on the next one as well.
  Reply reply = connections_->perform(exchange);
  if (reply.code == CURLE_OK && reply.length < 0) reply = connections_->perform(exchange);
  if (reply.code == CURLE_REMOTE_FILE_NOT_FOUND) return std::nullopt;
  if (reply.code != CURLE_OK) fail(path, reply);
  return reply.length < 0 ? 0 : static_cast<std::uint64_t>(reply.length);
}

// To look at a length libcurl opens the file; this is one exchange, where the server has it.
bool SftpStore::exists(const std::string& path) {
  Exchange exchange;
  exchange.path = "/";
  exchange.no_body = true;
  exchange.commands = {"statvfs " + quoted_name(path)};
  Reply reply = connections_->perform(exchange);
  if (reply.code == CURLE_OK) return true;
  if (reply.code == CURLE_QUOTE_ERROR && reply.problem.ends_with(kNoSuchFile)) return false;
  return size(path).has_value();
}

// Mostly it is a file, which cannot be listed.
bool SftpStore::names_folder(const std::string& path) {
  try {
    return list(path).has_value();
  } catch (const Error& error) {
    if (error.kind() != ErrorKind::kFailed) throw;
    return Store::names_folder(path);
  }
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
    auto entry = parse_listed(line);
    if (!entry) {
      refuse(folder, ErrorKind::kFailed,
             "the server's list cannot be understood: " + printable(line));
    }
    if (entry->name != "." && entry->name != "..") entries.push_back(std::move(*entry));
  }
  return entries;
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
      if (auto value = parse_count(trimmed(line.substr(colon + 2)))) {
        told[line.substr(0, colon)] = *value;
      }
    }
  };
  Reply reply = connections_->perform(exchange);
  if (reply.code != CURLE_OK || !told.contains("f_bavail")) return std::nullopt;
  std::uint64_t unit = told["f_frsize"] != 0 ? told["f_frsize"] : told["f_bsize"];
  return Room{told["f_bavail"] * unit, told["f_blocks"] * unit};
}

}  // namespace kestrum
