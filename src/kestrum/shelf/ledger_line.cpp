#include "kestrum/shelf/ledger_line.h"

#include <fmt/compile.h>
#include <fmt/format.h>

#include <algorithm>
#include <array>
#include <iterator>

#include "kestrum/archive/pax_time.h"
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
constexpr const char *kDeadType = "dead", *kStretchesType = "stretches";
constexpr std::array<const char*, 4> kWhy = {"replaced", "read error", "changed", "cut"};

// Lines are written by hand: a full set of a million files has a million of them.
void put_json_string(std::string& out, std::string_view text) {
  out += '"';
  bool plain = std::all_of(text.begin(), text.end(), [](char c) {
    return static_cast<unsigned char>(c) >= 0x20 && c != 0x7f && c != '"' && c != '\\';
  });
  if (plain) {
    out += text;
    text = {};
  }
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

// The first field of an object has no comma before it.
void put_bytes_field(std::string& out, std::string_view key, std::string_view bytes) {
  bool text = is_utf8(bytes);
  if (out.back() != '{') out += ',';
  out += '"';
  out += key;
  out += text ? "\":" : "_b64\":";
  put_json_string(out, text ? bytes : base64_encode(bytes));
}

std::string_view shown_path(const std::string& path) {
  return path.empty() ? std::string_view(".") : std::string_view(path);
}

// Reads one JSON object of a ledger.
class Fields {
 public:
  Fields(const Json& json, const std::string& what) : json_(json), what_(what) {
    if (!json.is_object()) throw bad("a line that is no object");
  }

  Error bad(const char* why) const { return Error(ErrorKind::kDamage, what_ + ": " + why); }

  bool name(const char* key, std::string& value) const {
    return get_name(json_, key, value, what_);
  }

  // As an entry has it: "" for "/".
  std::string path() const {
    std::string path;
    if (!name("path", path) || path.empty()) throw bad("an entry without a path");
    if (path == ".") path.clear();
    if (!is_safe_path(path)) throw bad("an entry whose path leads elsewhere");
    return path;
  }

  std::uint64_t number(const char* key) const {
    std::uint64_t value = json_uint(json_, key, what_);
    if (value > INT64_MAX) throw bad("a number out of range");
    return value;
  }

  std::uint32_t small(const char* key) const {
    std::uint64_t value = json_uint(json_, key, what_);
    if (value > UINT32_MAX) throw bad("a number out of range");
    return static_cast<std::uint32_t>(value);
  }

  FileTime time(const char* key) const {
    auto time = parse_pax_time(json_string(json_, key, what_));
    if (!time) throw bad("a time that is none");
    return *time;
  }

  bool flag(const char* key) const {
    auto it = json_.find(key);
    if (it == json_.end()) return false;
    if (!it->is_boolean()) throw bad("a flag that is none");
    return it->get<bool>();
  }

  const Json* find(const char* key) const {
    auto it = json_.find(key);
    return it == json_.end() ? nullptr : &*it;
  }
  const Json& json() const { return json_; }

 private:
  const Json& json_;
  const std::string& what_;
};

void read_attributes(const Json& list, const Fields& fields, const std::string& what, Entry& e) {
  if (!list.is_array()) throw fields.bad("malformed attributes");
  for (const Json& item : list) {
    std::string name;
    bool named = item.is_object() && get_name(item, "name", name, what) && !name.empty();
    auto value = named ? base64_decode(json_string(item, "value", what)) : std::nullopt;
    bool in_order = e.xattrs.empty() || e.xattrs.rbegin()->first < name;
    if (!value || !in_order || name.find('\0') != std::string::npos) {
      throw fields.bad("malformed attributes");
    }
    e.xattrs.emplace(std::move(name), std::move(*value));
  }
}

void read_device(const Fields& fields, Entry& e) {
  const Json* device = fields.find("device");
  bool numbers = device != nullptr && device->is_array() && device->size() == 2 &&
                 (*device)[0].is_number_unsigned() && (*device)[1].is_number_unsigned();
  if (!numbers) throw fields.bad("a device without numbers");
  e.device_major = (*device)[0].get<std::uint32_t>();
  e.device_minor = (*device)[1].get<std::uint32_t>();
  e.block_device = fields.flag("block");
}

void read_place(const Fields& fields, const std::string& what, LedgerEntry& line) {
  const Json* at = fields.find("at");
  if (at == nullptr) return;
  Fields place(*at, what);
  line.tar_offset = place.number("offset");
  if (place.find("set") != nullptr) line.in_set = document_set(*at, "set", what);
  bool named = place.find("path") != nullptr || place.find("path_b64") != nullptr;
  if (named) line.in_path = place.path();
  if (line.in_set && !line.in_path) throw place.bad("a reference without a path");
}

// [length], or [length, entry, offset] with a set behind it where that is another.
ContentRange read_range(const Json& item, const Fields& fields) {
  constexpr std::uint64_t kMost = INT64_MAX;
  if (!item.is_array() || item.empty() || item.size() == 2 || item.size() > 4) {
    throw fields.bad("malformed ranges");
  }
  ContentRange range;
  range.hole = item.size() == 1;
  std::uint64_t* numbers[] = {&range.length, &range.entry, &range.offset};
  for (std::size_t i = 0; i < std::min<std::size_t>(item.size(), 3); ++i) {
    if (!item[i].is_number_unsigned()) throw fields.bad("malformed ranges");
    *numbers[i] = item[i].get<std::uint64_t>();
    if (*numbers[i] > kMost) throw fields.bad("a number out of range");
  }
  if (item.size() == 4) {
    range.set = item[3].is_string() ? SetId::parse(item[3].get<std::string>()) : std::nullopt;
    if (!range.set) throw fields.bad("malformed ranges");
  }
  return range;
}

void read_ranges(const Fields& fields, LedgerEntry& line) {
  const Json* list = fields.find("ranges");
  if (list == nullptr) return;
  if (!list->is_array() || list->empty() || list->size() > kMostRanges) {
    throw fields.bad("malformed ranges");
  }
  std::uint64_t sum = 0;
  for (const Json& item : *list) {
    ContentRange range = read_range(item, fields);
    if (range.length == 0 || range.length > line.entry.size - sum) {
      throw fields.bad("ranges that do not add up to the size");
    }
    sum += range.length;
    line.ranges.push_back(range);
  }
  if (sum != line.entry.size) throw fields.bad("ranges that do not add up to the size");
}

void read_stretches(const Fields& fields, const std::string& what, StretchList& list) {
  list.path = fields.path();
  list.tar_offset = fields.number("tar_offset");
  list.from = fields.number("from");
  list.at = fields.find("at") != nullptr ? fields.number("at") : list.from;
  const Json& lengths = json_member(fields.json(), "lengths", what);
  auto digests = base64_decode(json_string(fields.json(), "digests", what));
  constexpr std::size_t kBytes = sizeof(StretchDigest);
  bool sound = lengths.is_array() && !lengths.empty() && lengths.size() <= kStretchesAList &&
               digests && digests->size() == lengths.size() * kBytes;
  if (!sound) throw fields.bad("malformed stretches");
  for (std::size_t i = 0; i < lengths.size(); ++i) {
    std::uint64_t length = lengths[i].is_number_unsigned() ? lengths[i].get<std::uint64_t>() : 0;
    if (length == 0 || length > kLongestStretch) throw fields.bad("malformed stretches");
    Stretch stretch{static_cast<std::uint32_t>(length), {}};
    std::copy_n(as_bytes(*digests).begin() + i * kBytes, kBytes, stretch.digest.begin());
    list.stretches.push_back(stretch);
  }
}

void put_ranges(std::string& out, const std::vector<ContentRange>& ranges) {
  out += ",\"ranges\":";
  char before = '[';
  for (const ContentRange& range : ranges) {
    fmt::format_to(std::back_inserter(out), "{}[{}", before, range.length);
    if (!range.hole) fmt::format_to(std::back_inserter(out), ",{},{}", range.entry, range.offset);
    if (range.set) out += ",\"" + range.set->to_string() + '"';
    out += ']';
    before = ',';
  }
  out += ']';
}

void read_entry(const Fields& fields, const std::string& what, LedgerEntry& line) {
  Entry& e = line.entry;
  e.path = fields.path();
  std::string type = json_string(fields.json(), "type", what);
  if (!parse_type(type, e.type))
    throw newer_than_this(what + ": an entry of type " + printable(type));
  if (e.type == EntryType::kGone || e.type == EntryType::kLeftOut) return;
  if (e.type == EntryType::kFile) e.size = fields.number("size");
  e.mtime = fields.time("mtime");
  e.ctime = fields.time("ctime");
  e.mode = fields.small("mode") & 07777;
  e.uid = fields.small("uid");
  e.gid = fields.small("gid");
  fields.name("user", e.user);
  fields.name("group", e.group);
  if (e.type == EntryType::kLink && !fields.name("target", e.target)) {
    throw fields.bad("a link without a target");
  }
  if (e.type == EntryType::kDevice) read_device(fields, e);
  if (const Json* list = fields.find("xattrs")) read_attributes(*list, fields, what, e);
  e.holes = fields.flag("holes");
  line.mount = fields.flag("mount");
  if (fields.find("disk") != nullptr) {
    std::uint32_t disk = fields.small("disk");
    if (disk == 0 || disk >= components_of(e.path)) throw fields.bad("a disk out of range");
    line.disk = static_cast<std::uint16_t>(disk);
  }
  read_place(fields, what, line);
  if (e.type != EntryType::kFile) return;
  line.noise = fields.flag("noise");
  if (fields.find("link_group") != nullptr) e.link_group = fields.number("link_group");
  line.digest = document_digest(fields.json(), "digest", what);
  read_ranges(fields, line);
  if (line.tar_offset.has_value() != line.ranges.empty())
    throw fields.bad("a file without content");
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

std::string ledger_head_line(const LedgerHead& head) {
  Json json = new_document(kLedgerFormat);
  if (head.ranges) json["needs"].push_back(kNeedsRanges);
  json["shelf"] = head.shelf;
  json["set"] = head.set.to_string();
  json["kind"] = kind_name(head.kind);
  json["based_on"] = head.based_on ? Json(head.based_on->to_string()) : Json(nullptr);
  json["number"] = head.number;
  json["begun"] = format_rfc3339(head.begun);
  json["started"] = format_rfc3339(head.started);
  json["host"] = head.host;
  json["program"] = head.program;
  json["roots"] = Json::array();
  for (const KnownRoot& root : head.roots) {
    Json item;
    put_name(item, "path", root.path);
    item["state"] = root.absent ? "absent" : "present";
    json["roots"].push_back(std::move(item));
  }
  json["lacking"] = head.lacking ? Json::array() : Json("unknown");
  for (const Lacking& lack : head.lacking.value_or(std::vector<Lacking>{})) {
    Json item;
    put_name(item, "path", shown_path(lack.path));
    item["set"] = lack.set.to_string();
    json["lacking"].push_back(std::move(item));
  }
  return json.dump() + "\n";
}

LedgerHead parse_ledger_head(std::string_view line, const std::string& what) {
  Json json = parse_document(line, kLedgerFormat, what);
  Fields fields(json, what);
  LedgerHead head;
  head.shelf = json_string(json, "shelf", what);
  head.set = document_set(json, "set", what);
  head.kind = document_kind(json, "kind", what);
  head.based_on = document_optional_set(json, "based_on", what);
  head.number = json_uint(json, "number", what);
  head.begun = document_time(json, "begun", what);
  head.started = document_time(json, "started", what);
  head.host = json_string(json, "host", what);
  head.program = json_string(json, "program", what);
  head.ranges = document_needs(json, kNeedsRanges);
  const Json& roots = json_member(json, "roots", what);
  if (!roots.is_array()) throw fields.bad("malformed roots");
  for (const Json& item : roots) {
    KnownRoot root;
    bool named = item.is_object() && get_name(item, "path", root.path, what);
    bool sound = named && root.path.starts_with('/') && is_safe_path(root.path.substr(1));
    std::string state = sound ? json_string(item, "state", what) : "";
    if (state != "present" && state != "absent") throw fields.bad("malformed roots");
    root.absent = state == "absent";
    head.roots.push_back(std::move(root));
  }
  const Json& lacking = json_member(json, "lacking", what);
  if (lacking == "unknown") return head;
  if (!lacking.is_array()) throw fields.bad("malformed \"lacking\"");
  head.lacking.emplace();
  for (const Json& item : lacking) {
    head.lacking->push_back({Fields(item, what).path(), document_set(item, "set", what)});
  }
  return head;
}

std::string ledger_line(const LedgerEntry& line) {
  const Entry& e = line.entry;
  std::string out = "{";
  out.reserve(400);
  put_bytes_field(out, "path", shown_path(e.path));
  auto end = std::back_inserter(out);
  fmt::format_to(end, FMT_COMPILE(",\"type\":\"{}\""), type_name(e.type));
  if (e.type == EntryType::kGone || e.type == EntryType::kLeftOut) return out + "}\n";
  if (e.type == EntryType::kFile) fmt::format_to(end, FMT_COMPILE(",\"size\":{}"), e.size);
  fmt::format_to(
      end, FMT_COMPILE(",\"mtime\":\"{}\",\"ctime\":\"{}\",\"mode\":{},\"uid\":{},\"gid\":{}"),
      pax_time(e.mtime), pax_time(e.ctime), e.mode, e.uid, e.gid);
  if (!e.user.empty()) put_bytes_field(out, "user", e.user);
  if (!e.group.empty()) put_bytes_field(out, "group", e.group);
  if (e.type == EntryType::kLink) put_bytes_field(out, "target", e.target);
  if (e.type == EntryType::kDevice) {
    fmt::format_to(std::back_inserter(out), ",\"device\":[{},{}]", e.device_major, e.device_minor);
    if (e.block_device) out += ",\"block\":true";
  }
  if (!e.xattrs.empty()) {
    out += ",\"xattrs\":[";
    bool first = true;
    for (const auto& [name, value] : e.xattrs) {
      out += first ? "{" : ",{";
      first = false;
      put_bytes_field(out, "name", name);
      out += ",\"value\":\"" + base64_encode(value) + "\"}";
    }
    out += ']';
  }
  if (e.holes) out += ",\"holes\":true";
  if (line.mount) out += ",\"mount\":true";
  if (line.disk != 0) fmt::format_to(std::back_inserter(out), ",\"disk\":{}", line.disk);
  if (line.noise) out += ",\"noise\":true";
  if (e.link_group != 0) {
    fmt::format_to(std::back_inserter(out), ",\"link_group\":{}", e.link_group);
  }
  if (line.digest) out += ",\"digest\":\"" + to_hex(*line.digest) + "\"";
  if (line.tar_offset) {
    fmt::format_to(end, FMT_COMPILE(",\"at\":{{\"offset\":{}"), *line.tar_offset);
    if (line.in_set) out += ",\"set\":\"" + line.in_set->to_string() + "\"";
    if (line.in_path) put_bytes_field(out, "path", shown_path(*line.in_path));
    out += '}';
  }
  if (!line.ranges.empty()) put_ranges(out, line.ranges);
  out += "}\n";
  return out;
}

std::string stretches_line(const StretchList& list) {
  std::string out = "{", digests;
  put_bytes_field(out, "path", list.path);
  fmt::format_to(std::back_inserter(out), ",\"type\":\"{}\",\"tar_offset\":{},\"from\":{}",
                 kStretchesType, list.tar_offset, list.from);
  if (list.at != list.from) fmt::format_to(std::back_inserter(out), ",\"at\":{}", list.at);
  out += ",\"lengths\":";
  char before = '[';
  for (const Stretch& stretch : list.stretches) {
    fmt::format_to(std::back_inserter(out), "{}{}", before, stretch.length);
    before = ',';
    digests.append(as_text(stretch.digest));
  }
  return out + "],\"digests\":\"" + base64_encode(digests) + "\"}\n";
}

std::string dead_line(const DeadEntry& entry) {
  std::string out = "{";
  put_bytes_field(out, "path", shown_path(entry.path));
  fmt::format_to(std::back_inserter(out), ",\"type\":\"{}\",\"tar_offset\":{},\"why\":\"{}\"}}\n",
                 kDeadType, entry.tar_offset, kWhy[static_cast<std::size_t>(entry.why)]);
  return out;
}

std::string ledger_foot_line(const LedgerFoot& foot) {
  Json json;
  json["foot"] = true;
  json["lines"] = foot.lines;
  if (foot.lists > 0) json["lists"] = foot.lists;
  json["dead"] = foot.dead;
  for (auto [key, value] : file_fields(foot.files)) json["files"][key] = *value;
  json["bytes"] = {{"seen", foot.bytes.seen}, {"copied", foot.bytes.copied}};
  json["suspect_why"] = foot.suspect_why;
  return json.dump() + "\n";
}

void parse_ledger_line(std::string_view text, const std::string& what, LedgerLine& line) {
  Json json = parse_json(text, what);
  Fields fields(json, what);
  line = LedgerLine();
  if (fields.find("foot") != nullptr) {
    line.kind = LedgerLine::Kind::kFoot;
    line.foot.lines = fields.number("lines");
    if (fields.find("lists") != nullptr) line.foot.lists = fields.number("lists");
    line.foot.dead = fields.number("dead");
    const Json& files = json_member(json, "files", what);
    for (auto [key, value] : file_fields(line.foot.files)) *value = json_uint(files, key, what);
    const Json& bytes = json_member(json, "bytes", what);
    line.foot.bytes.seen = json_uint(bytes, "seen", what);
    line.foot.bytes.copied = json_uint(bytes, "copied", what);
    line.foot.suspect_why = json_string(json, "suspect_why", what);
    return;
  }
  if (const Json* type = fields.find("type"); type != nullptr && *type == kDeadType) {
    line.kind = LedgerLine::Kind::kDead;
    std::string why = json_string(json, "why", what);
    auto known = std::find(kWhy.begin(), kWhy.end(), why);  // others may come: they are words
    if (known != kWhy.end()) line.dead.why = static_cast<DeadEntry::Why>(known - kWhy.begin());
    line.dead.tar_offset = fields.number("tar_offset");
    line.dead.path = fields.path();
    return;
  }
  if (const Json* type = fields.find("type"); type != nullptr && *type == kStretchesType) {
    line.kind = LedgerLine::Kind::kStretches;
    return read_stretches(fields, what, line.list);
  }
  line.kind = LedgerLine::Kind::kEntry;
  read_entry(fields, what, line.entry);
}

}  // namespace kestrum
