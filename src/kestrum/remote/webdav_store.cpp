#include "kestrum/remote/webdav_store.h"

#include <fmt/format.h>

#include <algorithm>
#include <pugixml.hpp>

#include "kestrum/base/file.h"
#include "kestrum/base/text.h"
#include "kestrum/place/address.h"

namespace kestrum {
namespace {

constexpr std::size_t kAnswerLimit = 64 << 20;  // bytes, of a list
constexpr const char* kWhatItIs = "<D:resourcetype/><D:getcontentlength/>";
constexpr const char* kQuota = "<D:quota-available-bytes/><D:quota-used-bytes/>";

bool is_good(const Reply& reply) {
  return reply.code == CURLE_OK && reply.status >= 200 && reply.status < 300;
}

// Without the prefix of its namespace, which every server chooses for itself.
std::string_view local_name(const pugi::xml_node& node) {
  std::string_view name = node.name();
  std::size_t colon = name.find(':');
  return colon == std::string_view::npos ? name : name.substr(colon + 1);
}

std::optional<std::uint64_t> number_in(const pugi::xml_node& node) {
  std::string_view text = trimmed(node.text().get());
  std::uint64_t value = 0;
  constexpr std::size_t kDigits = 19;
  if (text.empty() || text.size() > kDigits) return std::nullopt;
  for (char c : text) {
    if (c < '0' || c > '9') return std::nullopt;
    value = value * 10 + static_cast<std::uint64_t>(c - '0');
  }
  return value;
}

// The path of a link, which may be a whole URL.
std::string path_in(std::string_view href) {
  href = trimmed(href);
  if (std::size_t scheme = href.find("://"); scheme != std::string_view::npos) {
    std::size_t slash = href.find('/', scheme + 3);
    href = slash == std::string_view::npos ? "/" : href.substr(slash);
  }
  std::string path = percent_decoded(href);
  while (path.size() > 1 && path.back() == '/') path.pop_back();
  return path;
}

void read_property(const pugi::xml_node& property, DavResource& resource) {
  std::string_view name = local_name(property);
  if (name == "resourcetype") {
    for (const pugi::xml_node& kind : property.children()) {
      resource.entry.is_folder |= local_name(kind) == "collection";
    }
  } else if (name == "getcontentlength") {
    resource.entry.size = number_in(property).value_or(0);
  } else if (name == "quota-available-bytes") {
    resource.available = number_in(property);
  } else if (name == "quota-used-bytes") {
    resource.used = number_in(property);
  }
}

}  // namespace

std::vector<DavResource> parse_multistatus(const std::string& xml, const std::string& folder,
                                           bool itself, const std::string& what) {
  pugi::xml_document document;
  auto parsed = document.load_buffer(xml.data(), xml.size());
  pugi::xml_node root = document.document_element();
  if (!parsed || local_name(root) != "multistatus") {
    throw Error(ErrorKind::kFailed, what + ": the answer is not one of WebDAV",
                "whether WebDAV is allowed there is for whoever runs the server to say")
        .about_path(what);
  }
  std::vector<DavResource> resources;
  for (const pugi::xml_node& response : root.children()) {
    if (local_name(response) != "response") continue;
    DavResource resource;
    std::string path;
    for (const pugi::xml_node& part : response.children()) {
      if (local_name(part) == "href") path = path_in(part.text().get());
      if (local_name(part) != "propstat") continue;
      for (const pugi::xml_node& properties : part.children()) {
        if (local_name(properties) != "prop") continue;
        for (const pugi::xml_node& property : properties.children()) {
          read_property(property, resource);
        }
      }
    }
    if ((path == folder) != itself) continue;
    resource.entry.name = base_name(path);
    resources.push_back(std::move(resource));
  }
  return resources;
}

void WebdavStore::fail(const std::string& path, const Reply& reply) {
  constexpr long kUnauthorized = 401, kTimeout = 408, kTooLarge = 413, kTooMany = 429,
                 kLocked = 423, kNoStorage = 507, kServerError = 500;
  std::string where = connections_->url(path);
  if (reply.code != CURLE_OK) {
    throw Error(ErrorKind::kFailed, where + ": " + reply.problem).about_path(where);
  }
  switch (reply.status) {
    case kUnauthorized:
      connections_->refuse_login();
    case kTooLarge:
      throw Error(ErrorKind::kFailed, where + ": the server does not take files as large as this",
                  "a smaller part_size under [destination], or a higher limit at the server")
          .about_path(where);
    case kLocked:
      throw Error(ErrorKind::kBusy, where + ": it is locked by somebody else").about_path(where);
    case kNoStorage:
      throw Error(ErrorKind::kNoRoom, where + ": the server's disk is full").about_path(where);
    default:
      break;
  }
  std::string problem = fmt::format("the server answers {}", reply.status);
  bool another_time =
      reply.status >= kServerError || reply.status == kTimeout || reply.status == kTooMany;
  if (another_time) connections_->unable(path, problem, true);
  throw Error(ErrorKind::kFailed, where + ": " + problem).about_path(where);
}

Reply WebdavStore::ask(Exchange& exchange) {
  return connections_->perform(exchange);
}

std::optional<std::string> WebdavStore::properties(const std::string& path, const char* depth,
                                                   const char* names) {
  constexpr long kNotFound = 404, kGone = 410;
  std::string answer;
  Exchange exchange;
  exchange.path = path;
  exchange.method = "PROPFIND";
  exchange.headers = {std::string("Depth: ") + depth, "Content-Type: application/xml", "Expect:"};
  exchange.body = fmt::format(
      "<?xml version=\"1.0\" encoding=\"utf-8\"?>\n"
      "<D:propfind xmlns:D=\"DAV:\"><D:prop>{}</D:prop></D:propfind>\n",
      names);
  exchange.received = [&](ByteView bytes) {
    answer += as_text(bytes);
    return answer.size() <= kAnswerLimit;
  };
  Reply reply = ask(exchange);
  if (reply.code == CURLE_OK && (reply.status == kNotFound || reply.status == kGone)) {
    return std::nullopt;
  }
  if (!is_good(reply)) fail(path, reply);
  return answer;
}

std::optional<PlaceEntry> WebdavStore::look(const std::string& path) {
  auto answer = properties(path, "0", kWhatItIs);
  if (!answer) return std::nullopt;
  auto found = parse_multistatus(*answer, path, true, connections_->url(path));
  if (found.empty()) return std::nullopt;
  return found.front().entry;
}

std::optional<std::uint64_t> WebdavStore::size(const std::string& path) {
  auto entry = look(path);
  if (!entry) return std::nullopt;
  return entry->size;
}

std::optional<std::vector<PlaceEntry>> WebdavStore::list(const std::string& folder) {
  auto answer = properties(folder == "/" ? folder : folder + "/", "1", kWhatItIs);
  if (!answer) return std::nullopt;
  std::vector<PlaceEntry> entries;
  for (DavResource& resource :
       parse_multistatus(*answer, folder, false, connections_->url(folder))) {
    entries.push_back(std::move(resource.entry));
  }
  return entries;
}

bool WebdavStore::make_folder(const std::string& path) {
  Exchange exchange;
  exchange.path = path + "/";
  exchange.method = "MKCOL";
  Reply reply = ask(exchange);
  if (is_good(reply) || look(path)) return true;
  if (!look(parent_of(path))) return false;
  fail(path, reply);
}

void WebdavStore::remove_file(const std::string& path) {
  constexpr long kNotFound = 404;
  Exchange exchange;
  exchange.path = path;
  exchange.method = "DELETE";
  Reply reply = ask(exchange);
  if (!is_good(reply) && reply.status != kNotFound) fail(path, reply);
}

void WebdavStore::remove_folder(const std::string& path) {
  remove_file(path + "/");
}

void WebdavStore::rename(const std::string& from, const std::string& to) {
  auto entry = look(from);
  std::string slash = entry && entry->is_folder ? "/" : "";
  Exchange exchange;
  exchange.path = from + slash;
  exchange.method = "MOVE";
  exchange.headers = {"Destination: " + connections_->sent_url(to + slash), "Overwrite: F"};
  Reply reply = ask(exchange);
  if (!is_good(reply)) fail(to, reply);
}

void WebdavStore::receive(const std::string& path, std::uint64_t offset, std::uint64_t length, bool,
                          const Sink& sink) {
  constexpr long kPartial = 206, kNotFound = 404, kNoSuchRange = 416;
  bool partial = false, broken_off = false;
  std::uint64_t to_skip = offset;  // of a server that sends the whole
  Exchange exchange;
  exchange.path = path;
  exchange.range = {offset, offset + length - 1};
  exchange.large = length >= kLarge;
  exchange.header = [&](std::string_view line) {
    if (line.starts_with("HTTP/")) partial = line.find(fmt::format(" {}", kPartial)) < line.size();
  };
  exchange.received = [&](ByteView bytes) {
    if (!partial) {
      std::size_t skipped = std::min<std::uint64_t>(to_skip, bytes.size());
      to_skip -= skipped;
      bytes = bytes.subspan(skipped);
    }
    broken_off = !bytes.empty() && !sink(bytes);
    return !broken_off;
  };
  Reply reply = ask(exchange);
  if (broken_off || is_good(reply) || reply.status == kNoSuchRange) return;
  if (reply.status == kNotFound) {
    std::string where = connections_->url(path);
    throw Error(ErrorKind::kDamage, where + ": it is not there").about_path(where);
  }
  fail(path, reply);
}

std::optional<Bytes> WebdavStore::read_whole(const std::string& path, std::uint64_t limit) {
  constexpr long kNotFound = 404;
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
  if (is_good(reply)) return content;
  if (reply.code == CURLE_OK && reply.status == kNotFound) return std::nullopt;
  fail(path, reply);
}

void WebdavStore::write(const std::string& path, std::uint64_t, Content content) {
  Exchange exchange;
  exchange.path = path;
  exchange.upload = std::move(content.fill);
  exchange.upload_size = content.size;
  exchange.rewind = std::move(content.rewind);
  Reply reply = ask(exchange);
  if (!is_good(reply)) fail(path, reply);
}

std::optional<Room> WebdavStore::room(const std::string& folder) {
  auto answer = properties(folder, "0", kQuota);
  if (!answer) return std::nullopt;
  auto found = parse_multistatus(*answer, folder, true, connections_->url(folder));
  if (found.empty() || !found.front().available) return std::nullopt;
  std::uint64_t available = *found.front().available;
  return Room{available, available + found.front().used.value_or(0)};
}

}  // namespace kestrum
