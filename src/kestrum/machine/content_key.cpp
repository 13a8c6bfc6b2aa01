#include "kestrum/machine/content_key.h"

#include <sqlite3.h>

#include <algorithm>

#include "kestrum/base/bytes.h"

namespace kestrum {
namespace {

constexpr int kDigestBits = 32;
constexpr std::uint64_t kMostSize = (std::uint64_t{1} << 31) - 1;

std::uint64_t size_bits(std::uint64_t size) {
  return std::min(size, kMostSize) << kDigestBits;
}

void give_content_key(sqlite3_context* out, int, sqlite3_value** values) {
  Digest digest;
  const void* bytes = sqlite3_value_blob(values[1]);
  auto length = static_cast<std::size_t>(sqlite3_value_bytes(values[1]));
  if (bytes == nullptr || length != digest.size()) return sqlite3_result_null(out);
  std::copy_n(static_cast<const std::uint8_t*>(bytes), length, digest.begin());
  auto size = static_cast<std::uint64_t>(sqlite3_value_int64(values[0]));
  sqlite3_result_int64(out, content_key(size, digest));
}

}  // namespace

std::int64_t content_key(std::uint64_t size, const Digest& digest) {
  return static_cast<std::int64_t>(size_bits(size) | get_le32(digest.data()));
}

std::pair<std::int64_t, std::int64_t> content_keys(std::uint64_t size) {
  auto first = static_cast<std::int64_t>(size_bits(size));
  return {first, first + ((std::int64_t{1} << kDigestBits) - 1)};
}

void add_content_key(SQLite::Database& database) {
  database.createFunction("content_key", 2, true, nullptr, give_content_key);
}

}  // namespace kestrum
