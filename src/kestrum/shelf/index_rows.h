// How the index packs what few entries have, and its flags.
#pragma once

#include <SQLiteCpp/SQLiteCpp.h>

#include <string>
#include <string_view>

#include "kestrum/shelf/index.h"

namespace kestrum {

void bind_blob(SQLite::Statement& statement, int at, std::string_view bytes);
std::string column_blob(SQLite::Statement& statement, int at);

// Link target, device numbers and extended attributes: { tag (1) length (4, LE) bytes }...
std::string pack_extra(const Entry& entry);
void unpack_extra(std::string_view packed, Entry& entry);

inline constexpr int kHolesFlag = 1, kMountFlag = 2, kUnsureFlag = 4, kIndexOnlyFlag = 8,
                     kMovedFlag = 16, kKeptFlags = kHolesFlag | kMountFlag | kUnsureFlag;
int row_flags(const IndexEntry& entry);
void read_flags(int flags, IndexEntry& entry);

// Whether two states of a path are the same as far as a ledger tells: all but ctime and inode.
bool same_state(const IndexEntry& a, const IndexEntry& b);

}  // namespace kestrum
