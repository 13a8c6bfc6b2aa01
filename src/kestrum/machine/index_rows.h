// How the index packs what few entries have, and its flags.
#pragma once

#include <SQLiteCpp/SQLiteCpp.h>

#include <array>
#include <string>
#include <string_view>

#include "kestrum/base/file_time.h"
#include "kestrum/machine/index_entry.h"

namespace kestrum {

void bind_blob(SQLite::Statement& statement, int at, std::string_view bytes);
std::string column_blob(SQLite::Statement& statement, int at);
// Valid until the statement goes on.
std::string_view column_view(SQLite::Statement& statement, int at);
// As nanoseconds where 64 bits hold them, else as 12 bytes: equal times are equal values.
void bind_time(SQLite::Statement& statement, int at, FileTime time);
std::array<std::uint8_t, 12> time_bytes(FileTime time);
FileTime column_time(SQLite::Statement& statement, int at);
// Leaves `digest` as it is and says false if the column holds none.
bool column_digest(SQLite::Statement& statement, int at, Digest& digest);

// Narrows a query to a path and what is below it, with the parameters ?2 and ?3 and `p` for the
// table of paths; bind_below(statement, 2, path) fills them in.
inline constexpr const char* kBelowPath = " AND p.key >= ?2 AND p.key < ?3";
void bind_below(SQLite::Statement& statement, int at, const std::string& path);

// Link target, device numbers and extended attributes: { tag (1) length (4, LE) bytes }...
std::string pack_extra(const Entry& entry);
void unpack_extra(std::string_view packed, Entry& entry);

// Ranges and stretches, as short as they can be told. What is not right is left out.
std::string pack_ranges(const std::vector<ContentRange>& ranges);
std::vector<ContentRange> unpack_ranges(std::string_view packed);
std::string pack_stretches(const std::vector<Stretch>& stretches);
std::vector<Stretch> unpack_stretches(std::string_view packed);

// The columns of journal, packed_journal and carried, as Index::put_row and read_row take them.
inline constexpr const char* kRowColumns =
    "key, type, size, mtime, ctime, inode, mode, owner, digest, extra, flags, link_group, "
    "tar_offset,"
    " in_set, in_key, link_offset, ranges";
std::string insert_row(const char* table);

// What Index::read_set takes, up to the condition.
inline constexpr const char* kSets =
    "SELECT sequence, kind, base, started, roots, seal, ledger, lines, lacking, suspect_why"
    " FROM sets";

inline constexpr const char* kContentIndex =
    "CREATE INDEX IF NOT EXISTS version_content ON version(content) WHERE content IS NOT NULL";

inline constexpr std::size_t kPageBytes = 8192;  // of SQLite

inline constexpr const char* kJournalKeys =
    "CREATE UNIQUE INDEX IF NOT EXISTS journal_key ON journal(key)";
inline constexpr const char* kForgetJournal = "DELETE FROM journal; DELETE FROM journal_batch";

// Empties what a run that did not finish left.
inline constexpr const char* kForgetBegun =
    "DELETE FROM begun; DELETE FROM closed_part; DELETE FROM carried; DELETE FROM dead;"
    "DELETE FROM journal_stretch; DELETE FROM journal_listed";

inline constexpr int kHolesFlag = 1, kMountFlag = 2, kUnsureFlag = 4, kIndexOnlyFlag = 8,
                     kMovedFlag = 16, kUnsettledFlag = 32, kNoiseFlag = 64, kDiskShift = 8,
                     kDiskMask = 0xffff << kDiskShift,
                     kToldFlags = kHolesFlag | kMountFlag | kNoiseFlag | kDiskMask,  // by a ledger
    kKeptFlags = kToldFlags | kUnsureFlag;
int row_flags(const IndexEntry& entry);
void read_flags(int flags, IndexEntry& entry);

// Whether two states of a path are the same as far as a ledger tells: all but ctime and inode.
bool same_state(const IndexEntry& a, const IndexEntry& b);

}  // namespace kestrum
