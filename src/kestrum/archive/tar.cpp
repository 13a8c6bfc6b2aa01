#include "kestrum/archive/tar.h"

#include <fmt/format.h>

#include <algorithm>
#include <array>
#include <charconv>
#include <cstring>
#include <optional>

#include "kestrum/base/error.h"
#include "kestrum/base/file.h"

namespace kestrum {
namespace {

// Field positions of a ustar header (POSIX.1-2001, pax, "ustar Interchange Format").
struct Field {
  std::size_t offset, size;
};
constexpr Field kName{0, 100}, kMode{100, 8}, kUid{108, 8}, kGid{116, 8}, kSize{124, 12},
    kMtime{136, 12}, kChecksum{148, 8}, kType{156, 1}, kLinkName{157, 100}, kMagic{257, 8},
    kUserName{265, 32}, kGroupName{297, 32}, kMajor{329, 8}, kMinor{337, 8}, kPrefix{345, 155};

constexpr std::uint64_t kPaxLimit = 16 << 20;
constexpr std::uint64_t kSparseMapLimit = 64 << 20;
constexpr std::uint32_t kOctal7 = 07777777;

void put_text(std::string& block, Field field, std::string_view text) {
  std::memcpy(block.data() + field.offset, text.data(), std::min(text.size(), field.size));
}

void put_octal(std::string& block, Field field, std::uint64_t value) {
  for (std::size_t i = field.size - 1; i-- > 0; value >>= 3) {
    block[field.offset + i] = static_cast<char>('0' + (value & 7));
  }
}

bool plain_ascii(std::string_view text) {
  return std::all_of(text.begin(), text.end(), [](char c) { return c > 0 && c < 127; });
}

void put_record(std::string& records, std::string_view key, std::string_view value) {
  // The length counts its own digits.
  std::size_t rest = key.size() + value.size() + 3;
  std::size_t length = rest + 1;
  while (std::to_string(length).size() + rest != length) ++length;
  records += std::to_string(length);
  records += ' ';
  records.append(key).append("=").append(value).append("\n");
}

// Seconds with a fraction, as pax writes times; exact to the nanosecond.
std::string pax_time(Nanos time) {
  const char* sign = time < 0 ? "-" : "";
  std::uint64_t magnitude = time < 0 ? -static_cast<std::uint64_t>(time) : time;
  std::uint64_t fraction = magnitude % kSecond;
  std::string text = fmt::format("{}{}", sign, magnitude / kSecond);
  if (fraction != 0) {
    text += fmt::format(".{:09}", fraction);
    text.erase(text.find_last_not_of('0') + 1);
  }
  return text;
}

// '=' ends a pax keyword, so it is escaped in attribute names, as GNU tar does.
std::string xattr_key(const std::string& name) {
  std::string key = "SCHILY.xattr.";
  for (char c : name) {
    if (c == '%') {
      key += "%25";
    } else if (c == '=') {
      key += "%3D";
    } else {
      key += c;
    }
  }
  return key;
}

std::string xattr_name(std::string_view key) {
  std::string name;
  for (std::size_t i = 0; i < key.size(); ++i) {
    if (key.substr(i, 3) == "%25" || key.substr(i, 3) == "%3D") {
      name += key[i + 1] == '2' ? '%' : '=';
      i += 2;
    } else {
      name += key[i];
    }
  }
  return name;
}

char type_flag(const Entry& entry) {
  switch (entry.type) {
    case EntryType::kFolder:
      return '5';
    case EntryType::kLink:
      return '2';
    case EntryType::kHardlink:
      return '1';
    case EntryType::kFifo:
      return '6';
    case EntryType::kDevice:
      return entry.block_device ? '4' : '3';
    default:
      return '0';
  }
}

std::string header_block(char type, std::string_view name, std::uint64_t size) {
  std::string block(kTarBlock, '\0');
  put_text(block, kName, name);
  put_octal(block, kMode, 0);
  put_octal(block, kUid, 0);
  put_octal(block, kGid, 0);
  put_octal(block, kSize, size);
  put_octal(block, kMtime, 0);
  block[kType.offset] = type;
  put_text(block, kMagic, std::string_view("ustar\00000", 8));
  put_octal(block, kMajor, 0);
  put_octal(block, kMinor, 0);
  return block;
}

std::uint64_t checksum_of(std::string_view block) {
  // The checksum's own field counts as blanks.
  std::uint64_t sum = kChecksum.size * ' ';
  for (std::size_t i = 0; i < kTarBlock; ++i) sum += static_cast<unsigned char>(block[i]);
  for (std::size_t i = 0; i < kChecksum.size; ++i) {
    sum -= static_cast<unsigned char>(block[kChecksum.offset + i]);
  }
  return sum;
}

void seal_checksum(std::string& block) {
  std::uint64_t sum = checksum_of(block);
  put_octal(block, {kChecksum.offset, 7}, sum);
  block[kChecksum.offset + 7] = ' ';
}

std::string sparse_map(const std::vector<DataRun>& runs, std::uint64_t real_size) {
  std::vector<DataRun> map = runs;
  // A closing empty run tells old readers how long the file is.
  if (map.empty() || map.back().offset + map.back().length != real_size) {
    map.push_back({real_size, 0});
  }
  std::string text = fmt::format("{}\n", map.size());
  for (const DataRun& run : map) text += fmt::format("{}\n{}\n", run.offset, run.length);
  text.append(tar_padding(text.size()), '\0');
  return text;
}

std::optional<std::uint64_t> parse_octal(std::string_view block, Field field) {
  std::string_view text = block.substr(field.offset, field.size);
  std::uint64_t value = 0;
  if ((static_cast<unsigned char>(text[0]) & 0x80) != 0) {  // GNU base-256
    value = static_cast<unsigned char>(text[0]) & 0x7f;
    for (char c : text.substr(1)) {
      if (value >> 55 != 0) return std::nullopt;
      value = value << 8 | static_cast<unsigned char>(c);
    }
    return value;
  }
  for (char c : text) {
    if (c == ' ' || c == '\0') continue;
    if (c < '0' || c > '7') return std::nullopt;
    value = value << 3 | static_cast<std::uint64_t>(c - '0');
  }
  return value;
}

std::string field_text(std::string_view block, Field field) {
  std::string_view text = block.substr(field.offset, field.size);
  return std::string(text.substr(0, text.find('\0')));
}

template <typename Int>
std::optional<Int> parse_decimal(std::string_view text) {
  Int value{};
  auto [end, ec] = std::from_chars(text.data(), text.data() + text.size(), value);
  if (ec != std::errc() || end != text.data() + text.size()) return std::nullopt;
  return value;
}

std::optional<Nanos> parse_pax_time(std::string_view text) {
  bool negative = text.starts_with('-');
  if (negative) text.remove_prefix(1);
  std::size_t point = std::min(text.find('.'), text.size());
  auto seconds = parse_decimal<std::int64_t>(text.substr(0, point));
  if (!seconds || *seconds < 0 || *seconds > INT64_MAX / kSecond - 1) return std::nullopt;
  Nanos fraction = 0, unit = kSecond / 10;
  for (std::size_t i = point + 1; i < text.size(); ++i, unit /= 10) {
    if (text[i] < '0' || text[i] > '9') return std::nullopt;
    fraction += (text[i] - '0') * unit;
  }
  Nanos time = *seconds * kSecond + fraction;
  return negative ? -time : time;
}

using Records = std::vector<std::pair<std::string, std::string>>;

std::optional<Records> parse_records(std::string_view text) {
  Records records;
  while (!text.empty() && text[0] != '\0') {
    std::size_t space = text.find(' ');
    if (space == std::string_view::npos) return std::nullopt;
    auto length = parse_decimal<std::uint64_t>(text.substr(0, space));
    if (!length || *length > text.size() || *length < space + 3) return std::nullopt;
    std::string_view record = text.substr(space + 1, *length - space - 2);
    if (text[*length - 1] != '\n') return std::nullopt;
    std::size_t equals = record.find('=');
    if (equals == std::string_view::npos) return std::nullopt;
    records.emplace_back(record.substr(0, equals), record.substr(equals + 1));
    text.remove_prefix(*length);
  }
  return records;
}

// A path of a stream as an entry's path: no leading "./", no trailing slash, "." is "".
std::string entry_path(std::string_view name) {
  while (name.starts_with("./")) name.remove_prefix(2);
  while (name.ends_with('/')) name.remove_suffix(1);
  return name == "." ? "" : std::string(name);
}

}  // namespace

std::string tar_name(const Entry& entry) {
  if (entry.path.empty()) return "./";
  return entry.type == EntryType::kFolder ? entry.path + "/" : entry.path;
}

std::string tar_entry_head(const Entry& entry, const std::vector<DataRun>& runs) {
  std::string name = tar_name(entry);
  std::string map;
  std::uint64_t stored = entry.type == EntryType::kFile ? entry.size : 0;
  std::string records;
  if (entry.holes) {
    map = sparse_map(runs, entry.size);
    stored = map.size();
    for (const DataRun& run : runs) stored += run.length;
    put_record(records, "GNU.sparse.major", "1");
    put_record(records, "GNU.sparse.minor", "0");
    put_record(records, "GNU.sparse.name", name);
    put_record(records, "GNU.sparse.realsize", std::to_string(entry.size));
    name = "GNUSparseFile.0/" + base_name(entry.path);
  }
  if (name.size() > kName.size || !plain_ascii(name)) put_record(records, "path", name);
  if (entry.target.size() > kLinkName.size || !plain_ascii(entry.target)) {
    put_record(records, "linkpath", entry.target);
  }
  if (stored > 077777777777) put_record(records, "size", std::to_string(stored));
  if (entry.uid > kOctal7) put_record(records, "uid", std::to_string(entry.uid));
  if (entry.gid > kOctal7) put_record(records, "gid", std::to_string(entry.gid));
  if (entry.user.size() >= kUserName.size) put_record(records, "uname", entry.user);
  if (entry.group.size() >= kGroupName.size) put_record(records, "gname", entry.group);
  bool plain_time =
      entry.mtime >= 0 && entry.mtime % kSecond == 0 && entry.mtime / kSecond <= 077777777777;
  if (!plain_time) put_record(records, "mtime", pax_time(entry.mtime));
  for (const auto& [key, value] : entry.xattrs) {
    if (key == "system.posix_acl_access") {
      put_record(records, "SCHILY.acl.access", acl_text(value));
    } else if (key == "system.posix_acl_default") {
      put_record(records, "SCHILY.acl.default", acl_text(value));
    } else {
      put_record(records, xattr_key(key), value);
    }
  }

  std::string head;
  if (!records.empty()) {
    head = header_block('x', "PaxHeaders.0/" + base_name(entry.path).substr(0, 80), records.size());
    put_octal(head, kMode, 0644);
    seal_checksum(head);
    head += records;
    head.append(tar_padding(records.size()), '\0');
  }
  std::string block = header_block(type_flag(entry), name, stored > 077777777777 ? 0 : stored);
  put_octal(block, kMode, entry.mode & 07777);
  put_octal(block, kUid, entry.uid > kOctal7 ? 0 : entry.uid);
  put_octal(block, kGid, entry.gid > kOctal7 ? 0 : entry.gid);
  if (plain_time) put_octal(block, kMtime, static_cast<std::uint64_t>(entry.mtime / kSecond));
  put_text(block, kLinkName, entry.target);
  if (entry.user.size() < kUserName.size) put_text(block, kUserName, entry.user);
  if (entry.group.size() < kGroupName.size) put_text(block, kGroupName, entry.group);
  put_octal(block, kMajor, std::min(entry.device_major, kOctal7));
  put_octal(block, kMinor, std::min(entry.device_minor, kOctal7));
  seal_checksum(block);
  return head + block + map;
}

TarEntry read_tar_entry(ByteSource& stream, std::uint64_t offset, const std::string& what,
                        bool& end) {
  auto bad = [&](std::string_view why) {
    return Error(ErrorKind::kDamage, fmt::format("{}: tar entry at {}: {}", what, offset, why));
  };
  auto read_text = [&](std::uint64_t at, std::uint64_t length) {
    std::string text(length, '\0');
    stream.read_at(at, {reinterpret_cast<std::uint8_t*>(text.data()), text.size()});
    return text;
  };
  end = false;
  TarEntry result;
  Entry& entry = result.entry;
  Records records;
  std::uint64_t at = offset;
  std::string block = read_text(at, kTarBlock);
  if (std::all_of(block.begin(), block.end(), [](char c) { return c == '\0'; })) {
    end = true;
    result.next_offset = at + kTarBlock;
    return result;
  }
  auto check = [&] {
    if (parse_octal(block, kChecksum) != checksum_of(block)) throw bad("wrong checksum");
  };
  check();
  if (block[kType.offset] == 'x') {
    auto length = parse_octal(block, kSize);
    if (!length || *length > kPaxLimit) throw bad("an extended header of no sensible length");
    auto parsed = parse_records(read_text(at + kTarBlock, *length));
    if (!parsed) throw bad("malformed extended header");
    records = std::move(*parsed);
    at += kTarBlock + *length + tar_padding(*length);
    block = read_text(at, kTarBlock);
    check();
  }

  std::string name = field_text(block, kName);
  if (block.compare(kMagic.offset, 5, "ustar") == 0 && block[kPrefix.offset] != '\0') {
    name = field_text(block, kPrefix) + "/" + name;
  }
  auto number = [&](Field field) {
    auto value = parse_octal(block, field);
    if (!value) throw bad("a number that is not octal");
    return *value;
  };
  std::uint64_t stored = number(kSize);
  entry.mode = static_cast<std::uint32_t>(number(kMode) & 07777);
  entry.uid = static_cast<std::uint32_t>(number(kUid));
  entry.gid = static_cast<std::uint32_t>(number(kGid));
  std::uint64_t seconds = number(kMtime);
  if (seconds > INT64_MAX / kSecond - 1) throw bad("a time out of range");
  entry.mtime = static_cast<Nanos>(seconds) * kSecond;
  entry.target = field_text(block, kLinkName);
  entry.user = field_text(block, kUserName);
  entry.group = field_text(block, kGroupName);

  std::optional<std::uint64_t> real_size;
  bool sparse = false;
  for (const auto& record : records) {
    const std::string& key = record.first;
    const std::string& value = record.second;
    auto count = [&]() {
      auto parsed = parse_decimal<std::uint64_t>(value);
      if (!parsed || *parsed > INT64_MAX) throw bad("a number out of range");
      return *parsed;
    };
    if (key == "path") {
      name = value;
    } else if (key == "linkpath") {
      entry.target = value;
    } else if (key == "size") {
      stored = count();
    } else if (key == "uid") {
      entry.uid = static_cast<std::uint32_t>(count());
    } else if (key == "gid") {
      entry.gid = static_cast<std::uint32_t>(count());
    } else if (key == "uname") {
      entry.user = value;
    } else if (key == "gname") {
      entry.group = value;
    } else if (key == "mtime") {
      auto time = parse_pax_time(value);
      if (!time) throw bad("a time that is none");
      entry.mtime = *time;
    } else if (key == "GNU.sparse.major") {
      sparse = value == "1";
    } else if (key == "GNU.sparse.realsize") {
      real_size = count();
    } else if (key.starts_with("SCHILY.xattr.")) {
      entry.xattrs[xattr_name(std::string_view(key).substr(13))] = value;
    }
  }
  for (const auto& [key, value] : records) {
    if (key == "GNU.sparse.name") name = value;
  }
  entry.path = entry_path(name);

  switch (block[kType.offset]) {
    case '0':
    case '\0':
      entry.type = EntryType::kFile;
      break;
    case '1':
      entry.type = EntryType::kHardlink;
      stored = 0;
      break;
    case '2':
      entry.type = EntryType::kLink;
      stored = 0;
      break;
    case '3':
    case '4':
      entry.type = EntryType::kDevice;
      entry.block_device = block[kType.offset] == '4';
      entry.device_major = static_cast<std::uint32_t>(number(kMajor));
      entry.device_minor = static_cast<std::uint32_t>(number(kMinor));
      break;
    case '5':
      entry.type = EntryType::kFolder;
      break;
    case '6':
      entry.type = EntryType::kFifo;
      break;
    default:
      throw bad("an entry of unknown type");
  }
  if (stored > stream.size()) throw bad("longer than the archive");
  std::uint64_t content = at + kTarBlock;
  result.next_offset = content + stored + tar_padding(stored);
  entry.size = entry.type == EntryType::kFile ? stored : 0;
  if (sparse) {
    if (!real_size || entry.type != EntryType::kFile) throw bad("malformed sparse header");
    entry.holes = true;
    entry.size = *real_size;
    // The map: a count, then pairs of offset and length, one number a line.
    std::string map;
    std::size_t parsed = 0;
    auto next_number = [&]() -> std::uint64_t {
      for (;;) {
        std::size_t line_end = map.find('\n', parsed);
        if (line_end != std::string::npos) {
          auto value =
              parse_decimal<std::uint64_t>(std::string_view(map).substr(parsed, line_end - parsed));
          parsed = line_end + 1;
          if (!value) throw bad("malformed sparse map");
          return *value;
        }
        if (map.size() >= std::min(stored, kSparseMapLimit)) throw bad("malformed sparse map");
        map += read_text(content + map.size(), kTarBlock);
      }
    };
    std::uint64_t count = next_number(), total = 0, reached = 0;
    for (std::uint64_t i = 0; i < count; ++i) {
      DataRun run;
      run.offset = next_number();
      run.length = next_number();
      if (run.offset < reached || run.offset > entry.size || run.length > entry.size - run.offset) {
        throw bad("malformed sparse map");
      }
      reached = run.offset + run.length;
      total += run.length;
      if (run.length > 0) result.runs.push_back(run);
    }
    content += map.size();
    if (total != stored - map.size()) throw bad("a sparse map that does not fit its content");
    stored = total;
  }
  result.content_offset = content;
  result.stored_size = stored;
  return result;
}

std::string acl_text(const std::string& raw) {
  // struct posix_acl_xattr_header { le32 version = 2 }, then entries { le16 tag, le16 perm, le32 id
  // }
  const auto* bytes = reinterpret_cast<const std::uint8_t*>(raw.data());
  if (raw.size() < 4 || (raw.size() - 4) % 8 != 0 || get_le32(bytes) != 2) return {};
  std::string text;
  for (std::size_t i = 4; i < raw.size(); i += 8) {
    unsigned tag = bytes[i] | bytes[i + 1] << 8, perm = bytes[i + 2] | bytes[i + 3] << 8;
    std::uint32_t id = get_le32(bytes + i + 4);
    std::string who;
    switch (tag) {
      case 0x01:
        who = "user::";
        break;
      case 0x02:
        who = fmt::format("user:{}:", id);
        break;
      case 0x04:
        who = "group::";
        break;
      case 0x08:
        who = fmt::format("group:{}:", id);
        break;
      case 0x10:
        who = "mask::";
        break;
      case 0x20:
        who = "other::";
        break;
      default:
        return {};
    }
    if (!text.empty()) text += ',';
    text += who;
    text += (perm & 4) != 0 ? 'r' : '-';
    text += (perm & 2) != 0 ? 'w' : '-';
    text += (perm & 1) != 0 ? 'x' : '-';
  }
  return text;
}

}  // namespace kestrum
