#include "kestrum/remote/ftps_store.h"

#include <fmt/format.h>

#include <algorithm>
#include <cstdlib>

#include "kestrum/base/text.h"

namespace kestrum {
namespace {

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

std::optional<Reply> FtpsStore::command(Verb verb, const std::string& path, const std::string& to) {
  switch (verb) {
    case Verb::kMakeFolder:
      return commands({"MKD " + one_line(path)});
    case Verb::kRemoveFile:
      return commands({"DELE " + one_line(path)});
    case Verb::kRemoveFolder:
      return commands({"RMD " + one_line(path)});
    case Verb::kRename:
      return commands({"RNFR " + one_line(path), "RNTO " + one_line(to)});
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
  fail(folder, reply);
}

void FtpsStore::write(const std::string& path, std::uint64_t offset, Content content) {
  CommandStore::write(one_line(path), offset, std::move(content));
}

}  // namespace kestrum
