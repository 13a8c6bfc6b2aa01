#include "kestrum/machine/index_rows.h"

#include <algorithm>

#include "kestrum/machine/packed_numbers.h"

namespace kestrum {
namespace {

enum Tag : char { kTarget = 't', kDevice = 'd', kAttributeName = 'n', kAttributeValue = 'v' };

void put(std::string& out, Tag tag, std::string_view bytes) {
  std::uint8_t length[4];
  put_le32(length, static_cast<std::uint32_t>(bytes.size()));
  out += static_cast<char>(tag);
  out.append(as_text(length)).append(bytes);
}

// What comes before the length of a range: a hole, the set of the line, or 2 and a set's number.
constexpr std::uint64_t kHoleRange = 0, kOwnSetRange = 1, kOtherSetRange = 2;

}  // namespace

std::string pack_ranges(const std::vector<ContentRange>& ranges) {
  std::string out;
  for (const ContentRange& range : ranges) {
    put_number(out, range.hole  ? kHoleRange
                    : range.set ? kOtherSetRange + static_cast<std::uint64_t>(range.set->sequence())
                                : kOwnSetRange);
    put_number(out, range.length);
    if (range.hole) continue;
    put_number(out, range.entry);
    put_number(out, range.offset);
  }
  return out;
}

std::vector<ContentRange> unpack_ranges(std::string_view packed) {
  std::vector<ContentRange> ranges;
  std::uint64_t where = 0;
  while (get_number(packed, where)) {
    ContentRange range;
    range.hole = where == kHoleRange;
    if (where >= kOtherSetRange) {
      range.set = SetId::from_sequence(static_cast<std::int64_t>(where - kOtherSetRange));
    }
    bool whole =
        get_number(packed, range.length) &&
        (range.hole || (get_number(packed, range.entry) && get_number(packed, range.offset)));
    if (!whole) break;
    ranges.push_back(range);
  }
  return ranges;
}

std::string pack_stretches(const std::vector<Stretch>& stretches) {
  std::string out;
  for (const Stretch& stretch : stretches) {
    put_number(out, stretch.length);
    out.append(as_text(stretch.digest));
  }
  return out;
}

std::vector<Stretch> unpack_stretches(std::string_view packed) {
  std::vector<Stretch> stretches;
  std::uint64_t length = 0;
  while (get_number(packed, length) && packed.size() >= sizeof(StretchDigest)) {
    Stretch stretch{static_cast<std::uint32_t>(length), {}};
    std::copy_n(as_bytes(packed).begin(), stretch.digest.size(), stretch.digest.begin());
    packed.remove_prefix(stretch.digest.size());
    stretches.push_back(stretch);
  }
  return stretches;
}

std::array<std::uint8_t, 12> time_bytes(FileTime time) {
  std::array<std::uint8_t, 12> bytes{};
  put_le64(bytes.data(), static_cast<std::uint64_t>(time.seconds));
  put_le32(bytes.data() + 8, time.nanos);
  return bytes;
}

void bind_time(SQLite::Statement& statement, int at, FileTime time) {
  if (time.fits_nanos()) return statement.bind(at, static_cast<std::int64_t>(time.moment()));
  bind_blob(statement, at, as_text(time_bytes(time)));
}

FileTime column_time(SQLite::Statement& statement, int at) {
  SQLite::Column column = statement.getColumn(at);
  if (!column.isBlob() || column.getBytes() != 12) return FileTime(Nanos{column.getInt64()});
  const auto* bytes = static_cast<const std::uint8_t*>(column.getBlob());
  return {static_cast<std::int64_t>(get_le64(bytes)), get_le32(bytes + 8)};
}

std::string insert_row(const char* table) {
  return std::string("INSERT OR REPLACE INTO ") + table + "(" + kRowColumns +
         ") VALUES(?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)";
}

std::string pack_extra(const Entry& entry) {
  std::string out;
  if (!entry.target.empty()) put(out, kTarget, entry.target);
  if (entry.type == EntryType::kDevice) {
    std::uint8_t numbers[9];
    put_le32(numbers, entry.device_major);
    put_le32(numbers + 4, entry.device_minor);
    numbers[8] = entry.block_device ? 1 : 0;
    put(out, kDevice, as_text(numbers));
  }
  for (const auto& [name, value] : entry.xattrs) {
    put(out, kAttributeName, name);
    put(out, kAttributeValue, value);
  }
  return out;
}

void unpack_extra(std::string_view packed, Entry& entry) {
  std::string name;
  while (packed.size() >= 5) {
    const auto* bytes = as_bytes(packed).data();
    std::size_t length = get_le32(bytes + 1);
    if (length > packed.size() - 5) return;
    std::string_view value = packed.substr(5, length);
    switch (packed[0]) {
      case kTarget:
        entry.target = value;
        break;
      case kDevice:
        if (length != 9) return;
        entry.device_major = get_le32(bytes + 5);
        entry.device_minor = get_le32(bytes + 9);
        entry.block_device = bytes[13] != 0;
        break;
      case kAttributeName:
        name = value;
        break;
      case kAttributeValue:
        entry.xattrs[name] = value;
        break;
      default:
        return;
    }
    packed.remove_prefix(5 + length);
  }
}

int row_flags(const IndexEntry& entry) {
  return (entry.line.entry.holes ? kHolesFlag : 0) | (entry.line.mount ? kMountFlag : 0) |
         (entry.unsure ? kUnsureFlag : 0) | (entry.index_only ? kIndexOnlyFlag : 0) |
         (entry.moved ? kMovedFlag : 0) | (entry.unsettled ? kUnsettledFlag : 0) |
         (entry.line.noise ? kNoiseFlag : 0) | entry.line.disk << kDiskShift;
}

void read_flags(int flags, IndexEntry& entry) {
  entry.line.entry.holes = (flags & kHolesFlag) != 0;
  entry.line.mount = (flags & kMountFlag) != 0;
  entry.unsure = (flags & kUnsureFlag) != 0;
  entry.index_only = (flags & kIndexOnlyFlag) != 0;
  entry.moved = (flags & kMovedFlag) != 0;
  entry.unsettled = (flags & kUnsettledFlag) != 0;
  entry.line.noise = (flags & kNoiseFlag) != 0;
  entry.line.disk = static_cast<std::uint16_t>(flags >> kDiskShift);
}

bool same_state(const IndexEntry& a, const IndexEntry& b) {
  const Entry &x = a.line.entry, &y = b.line.entry;
  return x.type == y.type && x.size == y.size && x.mtime == y.mtime && x.mode == y.mode &&
         x.uid == y.uid && x.gid == y.gid && x.user == y.user && x.group == y.group &&
         x.target == y.target && x.device_major == y.device_major &&
         x.device_minor == y.device_minor && x.block_device == y.block_device &&
         x.xattrs == y.xattrs && x.link_group == y.link_group && x.holes == y.holes &&
         a.line.mount == b.line.mount && a.line.noise == b.line.noise &&
         a.line.disk == b.line.disk && a.line.digest == b.line.digest;
}

}  // namespace kestrum
