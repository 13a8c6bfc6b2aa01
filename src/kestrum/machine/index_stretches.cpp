// The stretches of large files: those of the set being written, and those of the sets there are.
#include <algorithm>

#include "kestrum/machine/index.h"
#include "kestrum/machine/index_rows.h"
#include "kestrum/select/path_order.h"

namespace kestrum {
namespace {

constexpr std::uint8_t kAnchorBits = 0x0f;  // one in 16 shows none of them
constexpr std::size_t kFirstOnes = 8;       // of each entry are noted in any case
constexpr std::size_t kMostAnchors = 4;     // that are looked at

std::int64_t digest_number(const Stretch& stretch) {
  return static_cast<std::int64_t>(get_le64(stretch.digest.data()));
}

// What read_stretch_list() takes: the offset of the entry, the place of the first stretch as it is
// stored and in the file, the list.
StretchList read_stretch_list(SQLite::Statement& s) {
  return {static_cast<std::uint64_t>(s.getColumn(0).getInt64()),
          static_cast<std::uint64_t>(s.getColumn(1).getInt64()),
          static_cast<std::uint64_t>(s.getColumn(2).getInt64()),
          unpack_stretches(column_blob(s, 3)),
          {}};
}

// Calls `visit` with each stretch of a list and its place in the entry's content.
template <typename Visit>
void each_in(const StretchList& list, Visit visit) {
  std::uint64_t at = list.from;
  for (const Stretch& stretch : list.stretches) {
    visit(stretch, at);
    at += stretch.length;
  }
}

}  // namespace

void Index::journal_listed(std::uint64_t tar_offset, const std::string& path,
                           std::uint64_t number) {
  auto& s = statement("INSERT OR REPLACE INTO journal_listed VALUES(?, ?, ?)");
  s.bind(1, static_cast<std::int64_t>(tar_offset));
  bind_blob(s, 2, path_key(path));
  s.bind(3, static_cast<std::int64_t>(number));
  s.exec();
}

void Index::journal_stretches(const StretchList& list) {
  auto& s = statement(
      "INSERT OR REPLACE INTO journal_stretch(tar_offset, start, at, list) VALUES(?, ?, ?, ?)");
  s.bind(1, static_cast<std::int64_t>(list.tar_offset));
  s.bind(2, static_cast<std::int64_t>(list.from));
  s.bind(3, static_cast<std::int64_t>(list.at));
  bind_blob(s, 4, pack_stretches(list.stretches));
  s.exec();
  auto& numbered = statement("SELECT 1 FROM journal_listed WHERE tar_offset = ? AND number > 0");
  numbered.bind(1, static_cast<std::int64_t>(list.tar_offset));
  if (numbered.executeStep()) note_fresh(list);
}

// Only what has a name of its own is found: no entry that follows can hide it.
void Index::note_fresh(const StretchList& list) {
  each_in(list, [&](const Stretch& stretch, std::uint64_t at) {
    auto& s = statement("INSERT OR IGNORE INTO temp.fresh_stretch VALUES(?, ?, ?)");
    s.bind(1, digest_number(stretch));
    s.bind(2, static_cast<std::int64_t>(list.tar_offset));
    s.bind(3, static_cast<std::int64_t>(at));
    s.exec();
  });
}

// Of the parts of an interrupted run.
void Index::remember_stretches() {
  SQLite::Statement s(
      *database_,
      "SELECT s.tar_offset, s.start, s.at, s.list FROM journal_stretch s JOIN journal_listed c"
      " ON c.tar_offset = s.tar_offset WHERE c.number > 0 ORDER BY s.tar_offset, s.start");
  while (s.executeStep()) note_fresh(read_stretch_list(s));
}

std::optional<ContentRange> Index::journal_stretch(const Stretch& stretch) {
  auto& s = statement(
      "SELECT tar_offset, start FROM temp.fresh_stretch WHERE digest = ?"
      " ORDER BY tar_offset, start LIMIT 1");
  s.bind(1, digest_number(stretch));
  if (!s.executeStep()) return std::nullopt;
  ContentRange place{stretch.length, false, std::nullopt,
                     static_cast<std::uint64_t>(s.getColumn(0).getInt64()),
                     static_cast<std::uint64_t>(s.getColumn(1).getInt64())};
  s.reset();
  return holds(place, stretch) ? std::optional(place) : std::nullopt;
}

// Whether the lists say that this stretch, all of its digest, lies there.
bool Index::holds(const ContentRange& place, const Stretch& stretch) {
  auto list = stretches_at(place.set, place.entry, place.offset);
  bool found = false;
  if (!list) return false;
  each_in(*list, [&](const Stretch& there, std::uint64_t at) {
    found |= at == place.offset && there == stretch;
  });
  return found;
}

std::uint64_t Index::next_stretch_number() {
  const char* last = "SELECT coalesce(max(number), 0) FROM journal_listed";
  return static_cast<std::uint64_t>(database_->execAndGet(last).getInt64()) + 1;
}

void Index::settle_stretches() {
  if (database_->execAndGet("SELECT count(*) FROM journal_listed").getInt64() == 0) return;
  const std::string from = std::string(" FROM ") + journal_table();
  database_->exec(
      "DELETE FROM temp.used_content;"
      "INSERT OR IGNORE INTO temp.used_content SELECT tar_offset" +
      from + " WHERE in_set IS NULL AND tar_offset IN (SELECT tar_offset FROM journal_listed)");
  {
    SQLite::Statement s(*database_, "SELECT ranges" + from + " WHERE ranges IS NOT NULL");
    SQLite::Statement use(*database_, "INSERT OR IGNORE INTO temp.used_content VALUES(?)");
    while (s.executeStep()) {
      for (const ContentRange& range : unpack_ranges(column_blob(s, 0))) {
        if (range.hole || range.set) continue;
        use.reset();
        use.bind(1, static_cast<std::int64_t>(range.entry));
        use.exec();
      }
    }
  }
  const std::string unused = " WHERE tar_offset NOT IN (SELECT tar_offset FROM temp.used_content)";
  database_->exec("INSERT OR IGNORE INTO dead SELECT tar_offset, key, " +
                  std::to_string(static_cast<int>(DeadEntry::Why::kReplaced)) +
                  " FROM journal_listed" + unused);
  database_->exec("DELETE FROM journal_stretch" + unused);
  database_->exec("DELETE FROM journal_listed" + unused);
}

bool Index::journal_has_ranges() {
  const char* query =
      "SELECT EXISTS (SELECT 1 FROM journal_stretch)"
      " OR EXISTS (SELECT 1 FROM journal WHERE ranges IS NOT NULL)";
  bool has = database_->execAndGet(query).getInt() != 0;
  if (has || journal_keyed_) return has;
  each_packed([&](const JournalRow& row) {
    has |= row.has_ranges();
    return !has;
  });
  return has;
}

void Index::each_journal_stretches(const std::function<void(const StretchList&)>& visit) {
  SQLite::Statement s(
      *database_,
      "SELECT s.tar_offset, s.start, s.at, s.list, c.key FROM journal_stretch s"
      " JOIN journal_listed c ON c.tar_offset = s.tar_offset ORDER BY s.tar_offset, s.start");
  while (s.executeStep()) {
    StretchList list = read_stretch_list(s);
    list.path = path_from_key(column_blob(s, 4));
    visit(list);
  }
}

void Index::each_stretches(SetId set, const std::function<void(const StretchList&)>& visit) {
  SQLite::Statement s(*database_,
                      "SELECT tar_offset, start, at, list FROM stretch WHERE set_sequence = ?"
                      " ORDER BY tar_offset, start");
  s.bind(1, set.sequence());
  while (s.executeStep()) visit(read_stretch_list(s));
}

void Index::apply_stretches(std::int64_t sequence) {
  SQLite::Statement anchor(*database_, "INSERT OR IGNORE INTO anchor VALUES(?, ?, ?, ?)");
  each_journal_stretches([&](const StretchList& list) {
    std::size_t first_ones = list.from == 0 ? kFirstOnes : 0;
    each_in(list, [&](const Stretch& stretch, std::uint64_t at) {
      bool first = first_ones > 0;
      first_ones -= first;
      if (!first && (stretch.digest[0] & kAnchorBits) != 0) return;
      anchor.reset();
      anchor.bind(1, digest_number(stretch));
      anchor.bind(2, sequence);
      anchor.bind(3, static_cast<std::int64_t>(list.tar_offset));
      anchor.bind(4, static_cast<std::int64_t>(at));
      anchor.exec();
    });
  });
  SQLite::Statement lists(
      *database_,
      "INSERT OR REPLACE INTO stretch(set_sequence, tar_offset, start, at, list)"
      " SELECT ?, tar_offset, start, at, list FROM journal_stretch");
  lists.bind(1, sequence);
  lists.exec();
}

std::optional<StretchList> Index::stretches_at(std::optional<SetId> set, std::uint64_t tar_offset,
                                               std::uint64_t from) {
  auto& s =
      statement(set ? "SELECT tar_offset, start, at, list FROM stretch WHERE set_sequence = ?3"
                      " AND tar_offset = ?1 AND start <= ?2 ORDER BY start DESC LIMIT 1"
                    : "SELECT tar_offset, start, at, list FROM journal_stretch"
                      " WHERE tar_offset = ?1 AND start <= ?2 ORDER BY start DESC LIMIT 1");
  s.bind(1, static_cast<std::int64_t>(tar_offset));
  s.bind(2, static_cast<std::int64_t>(from));
  if (set) s.bind(3, set->sequence());
  if (!s.executeStep()) return std::nullopt;
  StretchList list = read_stretch_list(s);
  s.reset();
  if (from >= list.end()) return std::nullopt;
  return list;
}

std::optional<StretchList> Index::stretches_behind(SetId set, const StretchList& list) {
  auto& s = statement(
      "SELECT tar_offset, start, at, list FROM stretch WHERE set_sequence = ?1"
      " AND (tar_offset, start) > (?2, ?3) ORDER BY tar_offset, start LIMIT 1");
  s.bind(1, set.sequence());
  s.bind(2, static_cast<std::int64_t>(list.tar_offset));
  s.bind(3, static_cast<std::int64_t>(list.from));
  if (!s.executeStep()) return std::nullopt;
  StretchList next = read_stretch_list(s);
  s.reset();
  return next;
}

std::vector<ContentRange> Index::anchors(const Stretch& stretch,
                                         const std::vector<std::int64_t>& ancestors) {
  std::vector<ContentRange> places;
  {
    auto& s = statement(
        "SELECT set_sequence, tar_offset, start FROM anchor WHERE digest = ?"
        " ORDER BY set_sequence DESC");
    s.bind(1, digest_number(stretch));
    while (places.size() < kMostAnchors && s.executeStep()) {
      std::int64_t sequence = s.getColumn(0).getInt64();
      if (!std::binary_search(ancestors.begin(), ancestors.end(), sequence)) continue;
      places.push_back({stretch.length, false, SetId::from_sequence(sequence),
                        static_cast<std::uint64_t>(s.getColumn(1).getInt64()),
                        static_cast<std::uint64_t>(s.getColumn(2).getInt64())});
    }
    s.reset();
  }
  std::erase_if(places, [&](const ContentRange& place) { return !holds(place, stretch); });
  return places;
}

std::vector<ContentRange> Index::ranges_from(const ContentRange& place) {
  SQLite::Statement s(*database_,
                      "SELECT ranges FROM location WHERE set_sequence = ? AND ranges IS NOT NULL");
  s.bind(1, place.set->sequence());
  while (s.executeStep()) {
    std::vector<ContentRange> ranges = unpack_ranges(column_blob(s, 0));
    name_set(ranges, *place.set);
    auto from = std::find_if(ranges.begin(), ranges.end(), [&](const ContentRange& range) {
      return !range.hole && range.set == place.set && range.entry == place.entry &&
             range.offset <= place.offset && place.offset < range.offset + range.length;
    });
    if (from == ranges.end()) continue;
    ranges.erase(ranges.begin(), from);
    ranges[0].length -= place.offset - ranges[0].offset;
    ranges[0].offset = place.offset;
    return ranges;
  }
  return {};
}

}  // namespace kestrum
