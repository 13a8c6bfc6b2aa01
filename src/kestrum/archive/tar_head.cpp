#include "kestrum/archive/tar_head.h"

#include <fmt/format.h>

#include <algorithm>
#include <cstring>

#include "kestrum/archive/acl_text.h"
#include "kestrum/archive/pax_time.h"
#include "kestrum/archive/tar_format.h"
#include "kestrum/base/file.h"

namespace kestrum {
namespace {

using namespace ustar;

constexpr std::uint32_t kOctal7 = 07777777;
constexpr std::uint64_t kOctal11 = 077777777777;

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

// Whether ustar can carry the time of an entry.
bool has_plain_time(const Entry& entry) {
  return entry.mtime.seconds >= 0 && entry.mtime.nanos == 0 &&
         static_cast<std::uint64_t>(entry.mtime.seconds) <= kOctal11;
}

// What ustar cannot carry of an entry of this name, with so many bytes behind its headers.
void put_records(const Entry& entry, const std::string& name, std::uint64_t stored,
                 std::string& records) {
  if (name.size() > kName.size || !plain_ascii(name)) put_record(records, "path", name);
  if (entry.target.size() > kLinkName.size || !plain_ascii(entry.target)) {
    put_record(records, "linkpath", entry.target);
  }
  if (stored > kOctal11) put_record(records, "size", std::to_string(stored));
  if (entry.uid > kOctal7) put_record(records, "uid", std::to_string(entry.uid));
  if (entry.gid > kOctal7) put_record(records, "gid", std::to_string(entry.gid));
  if (entry.user.size() >= kUserName.size) put_record(records, "uname", entry.user);
  if (entry.group.size() >= kGroupName.size) put_record(records, "gname", entry.group);
  if (!has_plain_time(entry)) put_record(records, "mtime", pax_time(entry.mtime));
  for (const auto& [key, value] : entry.xattrs) {
    if (key == "system.posix_acl_access") {
      put_record(records, "SCHILY.acl.access", acl_text(value));
    } else if (key == "system.posix_acl_default") {
      put_record(records, "SCHILY.acl.default", acl_text(value));
    } else {
      put_record(records, xattr_key(key), value);
    }
  }
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
  put_records(entry, name, stored, records);

  std::string head;
  if (!records.empty()) {
    head = header_block('x', "PaxHeaders.0/" + base_name(entry.path).substr(0, 80), records.size());
    put_octal(head, kMode, 0644);
    seal_checksum(head);
    head += records;
    head.append(tar_padding(records.size()), '\0');
  }
  std::string block = header_block(type_flag(entry), name, stored > kOctal11 ? 0 : stored);
  put_octal(block, kMode, entry.mode & 07777);
  put_octal(block, kUid, entry.uid > kOctal7 ? 0 : entry.uid);
  put_octal(block, kGid, entry.gid > kOctal7 ? 0 : entry.gid);
  if (has_plain_time(entry))
    put_octal(block, kMtime, static_cast<std::uint64_t>(entry.mtime.seconds));
  put_text(block, kLinkName, entry.target);
  if (entry.user.size() < kUserName.size) put_text(block, kUserName, entry.user);
  if (entry.group.size() < kGroupName.size) put_text(block, kGroupName, entry.group);
  put_octal(block, kMajor, std::min(entry.device_major, kOctal7));
  put_octal(block, kMinor, std::min(entry.device_minor, kOctal7));
  seal_checksum(block);
  head += block;
  head += map;
  return head;
}

}  // namespace kestrum
