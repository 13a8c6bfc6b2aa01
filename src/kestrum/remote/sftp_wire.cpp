#include "kestrum/remote/sftp_wire.h"

#include <sys/stat.h>

namespace kestrum::sftp {
namespace {

constexpr std::size_t kNumber = 4;
// What attributes there are (section 5).
constexpr std::uint32_t kHasSize = 1, kHasOwner = 2, kHasMode = 4, kHasTimes = 8,
                        kHasMore = 0x80000000;

}  // namespace

std::uint32_t big_endian(ByteView four) {
  return static_cast<std::uint32_t>(four[0]) << 24 | static_cast<std::uint32_t>(four[1]) << 16 |
         static_cast<std::uint32_t>(four[2]) << 8 | four[3];
}

void put_big_endian(std::uint8_t* four, std::uint32_t value) {
  for (int i = 0; i < 4; ++i) four[i] = static_cast<std::uint8_t>(value >> (24 - 8 * i));
}

Body& Body::number(std::uint32_t value) {
  bytes_.resize(bytes_.size() + kNumber);
  put_big_endian(bytes_.data() + bytes_.size() - kNumber, value);
  return *this;
}

Body& Body::long_number(std::uint64_t value) {
  return number(static_cast<std::uint32_t>(value >> 32)).number(static_cast<std::uint32_t>(value));
}

Body& Body::text(std::string_view value) {
  number(static_cast<std::uint32_t>(value.size()));
  bytes_.insert(bytes_.end(), value.begin(), value.end());
  return *this;
}

Body& Body::mode(std::uint32_t value) {
  return number(kHasMode).number(value);
}

std::optional<std::uint32_t> Fields::number() {
  if (left_.size() < kNumber) return std::nullopt;
  std::uint32_t value = big_endian(left_);
  left_ = left_.subspan(kNumber);
  return value;
}

std::optional<std::uint64_t> Fields::long_number() {
  auto high = number();
  auto low = number();
  if (!high || !low) return std::nullopt;
  return std::uint64_t{*high} << 32 | *low;
}

std::optional<std::string_view> Fields::text() {
  auto length = number();
  if (!length || *length > left_.size()) return std::nullopt;
  std::string_view value = as_text(left_.first(*length));
  left_ = left_.subspan(*length);
  return value;
}

bool Attributes::is_folder() const {
  return mode && S_ISDIR(*mode);
}

std::optional<Attributes> attributes_of(Fields& fields) {
  auto what = fields.number();
  if (!what) return std::nullopt;
  Attributes attributes;
  bool whole = true;
  if ((*what & kHasSize) != 0) whole &= (attributes.size = fields.long_number()).has_value();
  if ((*what & kHasOwner) != 0) whole &= fields.long_number().has_value();
  if ((*what & kHasMode) != 0) whole &= (attributes.mode = fields.number()).has_value();
  if ((*what & kHasTimes) != 0) whole &= fields.long_number().has_value();
  if ((*what & kHasMore) != 0) {
    auto count = fields.number();
    whole &= count.has_value();
    for (std::uint32_t i = 0; whole && i < *count; ++i) {
      whole = fields.text().has_value() && fields.text().has_value();
    }
  }
  return whole ? std::optional(attributes) : std::nullopt;
}

std::optional<std::vector<Name>> names_of(ByteView body) {
  Fields fields(body);
  auto count = fields.number();
  if (!count) return std::nullopt;
  std::vector<Name> names;
  for (std::uint32_t i = 0; i < *count; ++i) {
    auto name = fields.text();
    auto for_people = fields.text();
    auto attributes = attributes_of(fields);
    if (!name || !for_people || !attributes) return std::nullopt;
    names.push_back({std::string(*name), *attributes});
  }
  return names;
}

std::optional<std::set<std::string>> extensions_of(std::uint32_t version, ByteView body) {
  if (version != kVersionSpoken) return std::nullopt;
  std::set<std::string> names;
  for (Fields fields(body); !fields.at_end();) {
    auto name = fields.text();
    auto data = fields.text();
    if (!name || !data) return std::nullopt;
    names.emplace(*name);
  }
  return names;
}

std::optional<Disk> disk_of(ByteView body) {
  Fields fields(body);
  auto block = fields.long_number(), unit = fields.long_number(), blocks = fields.long_number(),
       unused = fields.long_number(), free = fields.long_number();
  if (!block || !unit || !blocks || !unused || !free) return std::nullopt;
  std::uint64_t bytes = *unit != 0 ? *unit : *block;
  return Disk{*free * bytes, *blocks * bytes};
}

}  // namespace kestrum::sftp
