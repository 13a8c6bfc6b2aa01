#include "kestrum/machine/journal_row.h"

#include "kestrum/base/bytes.h"
#include "kestrum/machine/index_rows.h"
#include "kestrum/machine/packed_numbers.h"

namespace kestrum {
namespace {

// Which of the values that not every row has follow, in this order.
enum Has : std::uint8_t {
  kDigest = 1,
  kExtra = 2,
  kTarOffset = 4,
  kInSet = 8,
  kInKey = 16,
  kLinkOffset = 32,
  kRanges = 64,
};

constexpr std::size_t kTimeBytes = 12, kLengthBytes = 4;

void put_bytes(std::string& out, std::string_view bytes) {
  put_number(out, bytes.size());
  out += bytes;
}

bool get_bytes(std::string_view& in, std::string_view& bytes) {
  std::uint64_t length = 0;
  if (!get_number(in, length) || length > in.size()) return false;
  bytes = in.substr(0, length);
  in.remove_prefix(length);
  return true;
}

void put_time(std::string& out, FileTime time) {
  out += as_text(time_bytes(time));
}

bool get_time(std::string_view& in, FileTime& time) {
  if (in.size() < kTimeBytes) return false;
  const std::uint8_t* bytes = as_bytes(in).data();
  time = {static_cast<std::int64_t>(get_le64(bytes)), get_le32(bytes + 8)};
  in.remove_prefix(kTimeBytes);
  return true;
}

bool get_optional(std::string_view& in, bool there, std::optional<std::uint64_t>& value) {
  value.reset();
  return !there || get_number(in, value.emplace());
}

bool get_view(std::string_view& in, bool there, std::string_view& bytes) {
  bytes = {};
  return !there || get_bytes(in, bytes);
}

}  // namespace

void pack_row(std::string& out, const JournalRow& row) {
  int has = (row.digest.empty() ? 0 : kDigest) | (row.extra.empty() ? 0 : kExtra) |
            (row.tar_offset ? kTarOffset : 0) | (row.in_set ? kInSet : 0) |
            (row.in_key ? kInKey : 0) | (row.link_offset ? kLinkOffset : 0) |
            (row.ranges.empty() ? 0 : kRanges);
  out += static_cast<char>(has);
  out += static_cast<char>(row.type);
  put_number(out, row.flags);
  put_bytes(out, row.key);
  std::size_t length_at = out.size();
  out.append(kLengthBytes, '\0');
  put_time(out, row.mtime);
  put_time(out, row.ctime);
  for (std::uint64_t number : {row.size, row.inode, row.mode, row.owner, row.link_group}) {
    put_number(out, number);
  }
  if ((has & kDigest) != 0) put_bytes(out, row.digest);
  if ((has & kExtra) != 0) put_bytes(out, row.extra);
  if (row.tar_offset) put_number(out, *row.tar_offset);
  if (row.in_set) put_number(out, *row.in_set);
  if (row.in_key) put_bytes(out, *row.in_key);
  if (row.link_offset) put_number(out, *row.link_offset);
  if ((has & kRanges) != 0) put_bytes(out, row.ranges);
  std::uint8_t length[kLengthBytes];
  put_le32(length, static_cast<std::uint32_t>(out.size() - length_at - kLengthBytes));
  out.replace(length_at, kLengthBytes, as_text(length));
}

bool unpack_head(std::string_view& packed, JournalRow& row) {
  if (packed.size() < 2) return false;
  row.has = static_cast<std::uint8_t>(packed[0]);
  row.type = static_cast<std::uint8_t>(packed[1]);
  packed.remove_prefix(2);
  if (!get_number(packed, row.flags) || !get_bytes(packed, row.key)) return false;
  if (packed.size() < kLengthBytes) return false;
  std::size_t length = get_le32(as_bytes(packed).data());
  packed.remove_prefix(kLengthBytes);
  if (length > packed.size()) return false;
  row.rest = packed.substr(0, length);
  packed.remove_prefix(length);
  return true;
}

bool unpack_rest(JournalRow& row) {
  std::string_view in = row.rest;
  if (!get_time(in, row.mtime) || !get_time(in, row.ctime)) return false;
  for (std::uint64_t* number : {&row.size, &row.inode, &row.mode, &row.owner, &row.link_group}) {
    if (!get_number(in, *number)) return false;
  }
  bool whole = get_view(in, (row.has & kDigest) != 0, row.digest) &&
               get_view(in, (row.has & kExtra) != 0, row.extra) &&
               get_optional(in, (row.has & kTarOffset) != 0, row.tar_offset) &&
               get_optional(in, (row.has & kInSet) != 0, row.in_set);
  if (!whole) return false;
  row.in_key.reset();
  if ((row.has & kInKey) != 0 && !get_bytes(in, row.in_key.emplace())) return false;
  return get_optional(in, (row.has & kLinkOffset) != 0, row.link_offset) &&
         get_view(in, (row.has & kRanges) != 0, row.ranges) && in.empty();
}

bool JournalRow::has_in_key() const {
  return (has & kInKey) != 0;
}

bool JournalRow::has_ranges() const {
  return (has & kRanges) != 0;
}

}  // namespace kestrum
