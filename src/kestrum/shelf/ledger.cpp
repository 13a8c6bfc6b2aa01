#include "kestrum/shelf/ledger.h"

#include <fmt/format.h>

#include <algorithm>
#include <iterator>

#include "kestrum/base/base64.h"
#include "kestrum/base/error.h"
#include "kestrum/base/json.h"
#include "kestrum/base/text.h"
#include "kestrum/base/units.h"
#include "kestrum/select/path_order.h"
#include "kestrum/shelf/document.h"

namespace kestrum {
namespace {

constexpr const char* kLedgerFormat = "kestrum-ledger";
constexpr std::size_t kLedgerFrame = 256 << 10;  // bytes of text a frame
constexpr std::size_t kLineLimit = 8 << 20;

// Lines are written by hand: a full set of a million files has a million of them.
void put_json_string(std::string& out, std::string_view text) {
  out += '"';
  for (char c : text) {
    auto byte = static_cast<unsigned char>(c);
    if (c == '"' || c == '\\') {
      out += '\\';
      out += c;
    } else if (byte < 0x20 || byte == 0x7f) {
      fmt::format_to(std::back_inserter(out), "\\u{:04x}", byte);
    } else {
      out += c;
    }
  }
  out += '"';
}

void put_bytes_field(std::string& out, std::string_view key, std::string_view bytes) {
  bool text = is_utf8(bytes);
  fmt::format_to(std::back_inserter(out), ",\"{}{}\":", key, text ? "" : "_b64");
  put_json_string(out, text ? bytes : base64_encode(bytes));
}

std::string_view shown_path(const std::string& path) {
  return path.empty() ? std::string_view(".") : std::string_view(path);
}

std::string stored_path(std::string path) {
  return path == "." ? "" : path;
}

}  // namespace

bool is_safe_path(std::string_view path) {
  if (path.empty()) return true;
  if (path.find('\0') != std::string_view::npos) return false;
  for (std::size_t begin = 0; begin <= path.size();) {
    std::size_t end = std::min(path.find('/', begin), path.size());
    std::string_view part = path.substr(begin, end - begin);
    if (part.empty() || part == "." || part == "..") return false;
    begin = end + 1;
  }
  return true;
}

std::string ledger_line(const LedgerEntry& line) {
  const Entry& e = line.entry;
  std::string out;
  out.reserve(400);
  put_bytes_field(out, "path", shown_path(e.path));
  out[0] = '{';
  fmt::format_to(std::back_inserter(out), ",\"type\":\"{}\"", type_name(e.type));
  if (e.type == EntryType::kGone || e.type == EntryType::kLeftOut) return out + "}\n";
  if (e.type == EntryType::kFile) fmt::format_to(std::back_inserter(out), ",\"size\":{}", e.size);
  fmt::format_to(std::back_inserter(out),
                 ",\"mtime\":{},\"ctime\":{},\"mode\":{},\"uid\":{},\"gid\":{}", e.mtime, e.ctime,
                 e.mode, e.uid, e.gid);
  if (!e.user.empty()) put_bytes_field(out, "user", e.user);
  if (!e.group.empty()) put_bytes_field(out, "group", e.group);
  if (e.type == EntryType::kLink || e.type == EntryType::kHardlink) {
    put_bytes_field(out, "target", e.target);
  }
  if (e.type == EntryType::kDevice) {
    fmt::format_to(std::back_inserter(out), ",\"device\":[{},{}]", e.device_major, e.device_minor);
    if (e.block_device) out += ",\"block\":true";
  }
  if (!e.xattrs.empty()) {
    out += ",\"xattrs\":{";
    bool first = true;
    for (const auto& [name, value] : e.xattrs) {
      if (!first) out += ',';
      first = false;
      put_json_string(out, is_utf8(name) ? name : printable(name));
      out += ":\"" + base64_encode(value) + "\"";
    }
    out += '}';
  }
  if (e.holes) out += ",\"holes\":true";
  if (line.mount) out += ",\"mount\":true";
  if (line.digest) out += ",\"digest\":\"" + to_hex(*line.digest) + "\"";
  if (line.tar_offset)
    fmt::format_to(std::back_inserter(out), ",\"tar_offset\":{}", *line.tar_offset);
  if (line.in_set) out += ",\"in_set\":\"" + line.in_set->to_string() + "\"";
  if (line.in_path) put_bytes_field(out, "in_path", *line.in_path);
  return out + "}\n";
}

LedgerEntry parse_ledger_line(std::string_view text, const std::string& what) {
  auto bad = [&](const char* why) { return Error(ErrorKind::kDamage, what + ": " + why); };
  Json json = parse_json(text, what);
  LedgerEntry line;
  Entry& e = line.entry;
  if (!json.is_object() || !get_name(json, "path", e.path, what))
    throw bad("an entry without a path");
  if (e.path.empty()) throw bad("an entry without a path");
  e.path = stored_path(std::move(e.path));
  if (!is_safe_path(e.path)) throw bad("an entry whose path leads elsewhere");
  if (!parse_type(json_string(json, "type", what), e.type)) throw bad("an entry of unknown type");
  if (e.type == EntryType::kGone || e.type == EntryType::kLeftOut) return line;
  if (e.type == EntryType::kFile) e.size = json_uint(json, "size", what);
  if (e.size > INT64_MAX) throw bad("an entry of impossible size");
  e.mtime = json_int(json, "mtime", what);
  e.ctime = json_int(json, "ctime", what);
  auto small = [&](const char* key) {
    std::uint64_t value = json_uint(json, key, what);
    if (value > UINT32_MAX) throw bad("a number out of range");
    return static_cast<std::uint32_t>(value);
  };
  e.mode = small("mode") & 07777;
  e.uid = small("uid");
  e.gid = small("gid");
  get_name(json, "user", e.user, what);
  get_name(json, "group", e.group, what);
  bool needs_target = e.type == EntryType::kLink || e.type == EntryType::kHardlink;
  if (needs_target && !get_name(json, "target", e.target, what))
    throw bad("a link without a target");
  if (e.type == EntryType::kHardlink && (e.target.empty() || !is_safe_path(e.target))) {
    throw bad("a hard link that leads elsewhere");
  }
  if (e.type == EntryType::kDevice) {
    const Json& device = json_member(json, "device", what);
    if (!device.is_array() || device.size() != 2 || !device[0].is_number_unsigned() ||
        !device[1].is_number_unsigned()) {
      throw bad("a device without numbers");
    }
    e.device_major = device[0].get<std::uint32_t>();
    e.device_minor = device[1].get<std::uint32_t>();
    e.block_device = json.value("block", false);
  }
  if (auto it = json.find("xattrs"); it != json.end()) {
    if (!it->is_object()) throw bad("malformed attributes");
    for (const auto& [name, value] : it->items()) {
      auto raw = value.is_string() ? base64_decode(value.get<std::string>()) : std::nullopt;
      if (!raw) throw bad("malformed attributes");
      e.xattrs[name] = *raw;
    }
  }
  auto flag = [&](const char* key) {
    auto it = json.find(key);
    return it != json.end() && it->is_boolean() && it->get<bool>();
  };
  e.holes = flag("holes");
  line.mount = flag("mount");
  if (e.type == EntryType::kFile) line.digest = document_digest(json, "digest", what);
  if (json.contains("tar_offset")) line.tar_offset = json_uint(json, "tar_offset", what);
  if (json.contains("in_set")) line.in_set = document_set(json, "in_set", what);
  std::string in_path;
  if (get_name(json, "in_path", in_path, what)) line.in_path = stored_path(std::move(in_path));
  if (e.type == EntryType::kFile && !line.tar_offset) throw bad("a file without content");
  if (line.in_set && !line.in_path) throw bad("a reference without a path");
  return line;
}

LedgerWriter::LedgerWriter(Place& place, std::string path, const Packing& packing,
                           const LedgerHeader& header)
    : file_(place, std::move(path), packing),
      compressed_(packing.compressed()),
      compressor_(packing.level) {
  Json json = new_document(kLedgerFormat);
  json["shelf"] = header.shelf;
  json["set"] = header.set.to_string();
  json["kind"] = kind_name(header.kind);
  json["based_on"] = header.based_on ? Json(header.based_on->to_string()) : Json(nullptr);
  json["roots"] = Json::array();
  for (const auto& root : header.roots) {
    json["roots"].push_back(is_utf8(root) ? Json(root) : Json{{"b64", base64_encode(root)}});
  }
  json["begun"] = format_rfc3339(header.begun);
  json["started"] = format_rfc3339(header.started);
  put_line(json.dump() + "\n");
}

void LedgerWriter::add(const LedgerEntry& entry) {
  put_line(ledger_line(entry));
}

void LedgerWriter::put_line(std::string_view line) {
  if (!pending_.empty() && pending_.size() + line.size() > kLedgerFrame) flush();
  pending_ += line;
}

void LedgerWriter::flush() {
  if (compressed_) {
    compressor_.compress(as_bytes(pending_), frame_);
    file_.add(frame_, pending_.size());
  } else {
    file_.add(as_bytes(pending_), pending_.size());
  }
  pending_.clear();
}

void LedgerWriter::close() {
  flush();
  file_.close();
}

LedgerReader::LedgerReader(std::unique_ptr<ByteSource> content, std::string what)
    : content_(std::move(content)), what_(std::move(what)) {
  std::string line;
  if (!next_line(line)) throw Error(ErrorKind::kDamage, what_ + ": empty");
  Json json = parse_document(line, kLedgerFormat, what_);
  header_.shelf = json_string(json, "shelf", what_);
  header_.set = document_set(json, "set", what_);
  header_.kind = document_kind(json, "kind", what_);
  header_.based_on = document_optional_set(json, "based_on", what_);
  header_.begun = document_time(json, "begun", what_);
  header_.started = document_time(json, "started", what_);
  const Json& roots = json_member(json, "roots", what_);
  for (const Json& root : roots) {
    auto raw = root.is_object() ? base64_decode(root.value("b64", "")) : std::nullopt;
    if (root.is_string()) raw = root.get<std::string>();
    if (!raw || raw->empty() || (*raw)[0] != '/') {
      throw Error(ErrorKind::kDamage, what_ + ": malformed roots");
    }
    header_.roots.push_back(*raw);
  }
}

bool LedgerReader::next_line(std::string& line) {
  for (;;) {
    std::size_t end = buffer_.find('\n', buffer_at_);
    if (end != std::string::npos) {
      line.assign(buffer_, buffer_at_, end - buffer_at_);
      buffer_at_ = end + 1;
      return true;
    }
    if (at_ == content_->size()) {
      if (buffer_at_ != buffer_.size()) throw Error(ErrorKind::kDamage, what_ + ": cut short");
      return false;
    }
    buffer_.erase(0, buffer_at_);
    buffer_at_ = 0;
    if (buffer_.size() > kLineLimit) throw Error(ErrorKind::kDamage, what_ + ": a line too long");
    std::size_t old = buffer_.size();
    std::size_t n = std::min<std::uint64_t>(kLedgerFrame, content_->size() - at_);
    buffer_.resize(old + n);
    content_->read_at(at_, {reinterpret_cast<std::uint8_t*>(buffer_.data()) + old, n});
    at_ += n;
  }
}

bool LedgerReader::next(LedgerEntry& entry) {
  std::string line;
  if (!next_line(line)) return false;
  entry = parse_ledger_line(line, what_);
  if (previous_ && compare_paths(*previous_, entry.entry.path) >= 0) {
    throw Error(ErrorKind::kDamage, what_ + ": its entries are not in order");
  }
  previous_ = entry.entry.path;
  return true;
}

}  // namespace kestrum
