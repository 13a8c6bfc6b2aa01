// What the index finds content by.
#pragma once

#include <SQLiteCpp/SQLiteCpp.h>

#include <cstdint>
#include <utility>

#include "kestrum/crypto/digest.h"

namespace kestrum {

// One number, as SQLite sorts and seeks numbers fastest: 31 bits of the size (2 GiB less a byte
// stands for all that is larger) and the first 32 bits of the digest. Not negative. Other content
// may have the same.
std::int64_t content_key(std::uint64_t size, const Digest& digest);

// The first and the last key that content of this size can have.
std::pair<std::int64_t, std::int64_t> content_keys(std::uint64_t size);

// Adds the function `content_key(size, digest)` to a connection: NULL where there is no digest.
// Throws SQLite::Exception.
void add_content_key(SQLite::Database& database);

}  // namespace kestrum
