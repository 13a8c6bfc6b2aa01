#include "kestrum/remote/webdav_store.h"

#include <fmt/format.h>

#include <algorithm>
#include <pugixml.hpp>

#include "kestrum/base/file.h"
#include "kestrum/base/text.h"
#include "kestrum/place/address.h"

namespace kestrum {
namespace {

constexpr long kNotFound = 404;
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
  return parse_count(trimmed(node.text().get()));
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

void WebdavStore::fail(const std::string& path, const Reply& reply) const {
  constexpr long kUnauthorized = 401, kTimeout = 408, kTooLarge = 413, kTooMany = 429,
                 kLocked = 423, kNoStorage = 507, kServerError = 500;
  if (reply.code != CURLE_OK) refuse(path, ErrorKind::kFailed, reply.problem);
  switch (reply.status) {
    case kUnauthorized:
      connections_->refuse_login();
    case kTooLarge:
      refuse(path, ErrorKind::kFailed, "the server does not take files as large as this",
             "a smaller part_size under [destination], or a higher limit at the server");
    case kLocked:
      refuse(path, ErrorKind::kBusy, "it is locked by somebody else");
    case kNoStorage:
      refuse(path, ErrorKind::kNoRoom, "the server's disk is full");
    default:
      break;
  }
  std::string problem = fmt::format("the server answers {}", reply.status);
  bool another_time =
      reply.status >= kServerError || reply.status == kTimeout || reply.status == kTooMany;
  if (another_time) connections_->unable(path, problem, true);
  refuse(path, ErrorKind::kFailed, problem);
}

std::optional<std::string> WebdavStore::properties(const std::string& path, const char* depth,
                                                   const char* names) {
  constexpr long kGone = 410;
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
  Reply reply = connections_->perform(exchange);
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
  Reply reply = connections_->perform(exchange);
  if (is_good(reply) || look(path)) return true;
  if (!look(parent_of(path))) return false;
  fail(path, reply);
}

void WebdavStore::remove_file(const std::string& path) {
  Exchange exchange;
  exchange.path = path;
  exchange.method = "DELETE";
  Reply reply = connections_->perform(exchange);
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
  Reply reply = connections_->perform(exchange);
  if (!is_good(reply)) fail(to, reply);
}

bool WebdavStore::receive(const std::string& path, const Stretch& stretch, const Sink& sink) {
  constexpr long kPartial = 206, kNoSuchRange = 416;
  bool partial = false, broken_off = false;
  std::uint64_t to_skip = stretch.from;  // of a server that sends the whole
  Exchange exchange;
  exchange.path = path;
  exchange.range = stretch.range();
  exchange.large = stretch.large;
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
  Reply reply = connections_->perform(exchange);
  if (broken_off || is_good(reply) || reply.status == kNoSuchRange) return true;
  if (reply.status == kNotFound) return false;
  fail(path, reply);
}

void WebdavStore::write(const std::string& path, std::uint64_t, Content content) {
  Exchange exchange;
  exchange.path = path;
  exchange.content = std::move(content);
  Reply reply = connections_->perform(exchange);
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
