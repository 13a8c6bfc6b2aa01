#include "kestrum/archive/tar_reader.h"

#include <fmt/format.h>

#include <algorithm>
#include <charconv>
#include <optional>
#include <utility>

#include "kestrum/archive/pax_time.h"
#include "kestrum/archive/tar_format.h"
#include "kestrum/base/error.h"

namespace kestrum {
namespace {

using namespace ustar;

constexpr std::uint64_t kPaxLimit = 16 << 20;
constexpr std::uint64_t kSparseMapLimit = 64 << 20;

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

// Reads one entry: what is wrong is thrown with the stream and the offset named.
class EntryReader {
 public:
  EntryReader(ByteSource& stream, std::uint64_t offset, const std::string& what)
      : stream_(stream), what_(what), offset_(offset), at_(offset) {}

  TarEntry read(bool& end) {
    block_ = text_at(at_, kTarBlock);
    end = std::all_of(block_.begin(), block_.end(), [](char c) { return c == '\0'; });
    if (end) {
      result_.next_offset = at_ + kTarBlock;
      return std::move(result_);
    }
    check_block();
    if (block_[kType.offset] == 'x') read_extended_header();
    take_header();
    for (const auto& [key, value] : records_) take_record(key, value);
    if (!sparse_name_.empty()) name_ = sparse_name_;
    result_.entry.path = entry_path(name_);
    take_type();
    if (stored_ > stream_.size()) throw bad("longer than the archive");
    result_.content_offset = at_ + kTarBlock;
    result_.next_offset = result_.content_offset + stored_ + tar_padding(stored_);
    result_.entry.size = result_.entry.type == EntryType::kFile ? stored_ : 0;
    if (sparse_) read_sparse_map();
    result_.stored_size = stored_;
    return std::move(result_);
  }

 private:
  Error bad(std::string_view why) const {
    return Error(ErrorKind::kDamage, fmt::format("{}: tar entry at {}: {}", what_, offset_, why));
  }

  std::string text_at(std::uint64_t at, std::uint64_t length) {
    std::string text(length, '\0');
    stream_.read_at(at, {reinterpret_cast<std::uint8_t*>(text.data()), text.size()});
    return text;
  }

  void check_block() const {
    if (parse_octal(block_, kChecksum) != checksum_of(block_)) throw bad("wrong checksum");
  }

  void read_extended_header() {
    auto length = parse_octal(block_, kSize);
    if (!length || *length > kPaxLimit) throw bad("an extended header of no sensible length");
    auto parsed = parse_records(text_at(at_ + kTarBlock, *length));
    if (!parsed) throw bad("malformed extended header");
    records_ = std::move(*parsed);
    at_ += kTarBlock + *length + tar_padding(*length);
    block_ = text_at(at_, kTarBlock);
    check_block();
  }

  std::uint64_t number(Field field) const {
    auto value = parse_octal(block_, field);
    if (!value) throw bad("a number that is not octal");
    return *value;
  }

  void take_header() {
    name_ = field_text(block_, kName);
    if (block_.compare(kMagic.offset, 5, "ustar") == 0 && block_[kPrefix.offset] != '\0') {
      name_ = field_text(block_, kPrefix) + "/" + name_;
    }
    Entry& entry = result_.entry;
    stored_ = number(kSize);
    entry.mode = static_cast<std::uint32_t>(number(kMode) & 07777);
    entry.uid = static_cast<std::uint32_t>(number(kUid));
    entry.gid = static_cast<std::uint32_t>(number(kGid));
    std::uint64_t seconds = number(kMtime);
    if (seconds > INT64_MAX) throw bad("a time out of range");
    entry.mtime = FileTime(static_cast<std::int64_t>(seconds), 0);
    entry.target = field_text(block_, kLinkName);
    entry.user = field_text(block_, kUserName);
    entry.group = field_text(block_, kGroupName);
  }

  std::uint64_t count_of(const std::string& value) const {
    auto parsed = parse_decimal<std::uint64_t>(value);
    if (!parsed || *parsed > INT64_MAX) throw bad("a number out of range");
    return *parsed;
  }

  // A later record of the same key counts.
  void take_record(const std::string& key, const std::string& value) {
    Entry& entry = result_.entry;
    if (key == "path") {
      name_ = value;
    } else if (key == "linkpath") {
      entry.target = value;
    } else if (key == "size") {
      stored_ = count_of(value);
    } else if (key == "uid") {
      entry.uid = static_cast<std::uint32_t>(count_of(value));
    } else if (key == "gid") {
      entry.gid = static_cast<std::uint32_t>(count_of(value));
    } else if (key == "uname") {
      entry.user = value;
    } else if (key == "gname") {
      entry.group = value;
    } else if (key == "mtime") {
      auto time = parse_pax_time(value);
      if (!time) throw bad("a time that is none");
      entry.mtime = *time;
    } else if (key == "GNU.sparse.major") {
      sparse_ = value == "1";
    } else if (key == "GNU.sparse.name") {
      sparse_name_ = value;
    } else if (key == "GNU.sparse.realsize") {
      real_size_ = count_of(value);
    } else if (key.starts_with("SCHILY.xattr.")) {
      entry.xattrs[xattr_name(std::string_view(key).substr(13))] = value;
    }
  }

  void take_type() {
    Entry& entry = result_.entry;
    char type = block_[kType.offset];
    switch (type) {
      case '0':
      case '\0':
        entry.type = EntryType::kFile;
        return;
      case '1':
        entry.type = EntryType::kHardlink;
        stored_ = 0;
        return;
      case '2':
        entry.type = EntryType::kLink;
        stored_ = 0;
        return;
      case '3':
      case '4':
        entry.type = EntryType::kDevice;
        entry.block_device = type == '4';
        entry.device_major = static_cast<std::uint32_t>(number(kMajor));
        entry.device_minor = static_cast<std::uint32_t>(number(kMinor));
        return;
      case '5':
        entry.type = EntryType::kFolder;
        return;
      case '6':
        entry.type = EntryType::kFifo;
        return;
      default:
        throw bad("an entry of unknown type");
    }
  }

  // The next line of the map, a decimal number. The map is read block by block.
  std::uint64_t next_number() {
    for (;;) {
      std::size_t line_end = map_.find('\n', parsed_);
      if (line_end != std::string::npos) {
        auto value = parse_decimal<std::uint64_t>(
            std::string_view(map_).substr(parsed_, line_end - parsed_));
        parsed_ = line_end + 1;
        if (!value) throw bad("malformed sparse map");
        return *value;
      }
      if (map_.size() >= std::min(stored_, kSparseMapLimit)) throw bad("malformed sparse map");
      map_ += text_at(result_.content_offset + map_.size(), kTarBlock);
    }
  }

  // A count, then pairs of offset and length, one number a line.
  void read_sparse_map() {
    Entry& entry = result_.entry;
    if (!real_size_ || entry.type != EntryType::kFile) throw bad("malformed sparse header");
    entry.holes = true;
    entry.size = *real_size_;
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
      if (run.length > 0) result_.runs.push_back(run);
    }
    result_.content_offset += map_.size();
    if (total != stored_ - map_.size()) throw bad("a sparse map that does not fit its content");
    stored_ = total;
  }

  ByteSource& stream_;
  const std::string& what_;
  std::uint64_t offset_, at_;  // of the entry, and of the header being read
  std::string block_;
  Records records_;
  TarEntry result_;
  std::string name_, sparse_name_;
  std::uint64_t stored_ = 0;  // bytes behind the header, without padding
  std::optional<std::uint64_t> real_size_;
  bool sparse_ = false;
  std::string map_;
  std::size_t parsed_ = 0;  // of the map
};

}  // namespace

TarEntry read_tar_entry(ByteSource& stream, std::uint64_t offset, const std::string& what,
                        bool& end) {
  return EntryReader(stream, offset, what).read(end);
}

}  // namespace kestrum
