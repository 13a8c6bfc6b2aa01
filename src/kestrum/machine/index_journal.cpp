// The journal of the set being written.
#include <algorithm>

#include "kestrum/base/error.h"
#include "kestrum/machine/index.h"
#include "kestrum/machine/index_rows.h"
#include "kestrum/select/path_order.h"

namespace kestrum {
namespace {

constexpr std::size_t kPackedBytes = kPageBytes - 60;  // of packed rows: what a page has room for

// What must agree, besides the content, of entries that are alike but for the name.
std::uint64_t metadata_hash(const Entry& entry, std::int64_t owner, const std::string& extra) {
  std::string text = extra;
  for (std::uint64_t number :
       {static_cast<std::uint64_t>(entry.mtime.seconds), std::uint64_t{entry.mtime.nanos},
        std::uint64_t{entry.mode}, static_cast<std::uint64_t>(owner), entry.link_group}) {
    std::uint8_t bytes[8];
    put_le64(bytes, number);
    text.append(as_text(bytes));
  }
  return std::hash<std::string>()(text) | 1;
}

std::uint64_t as_number(FileTime time) {
  return static_cast<std::uint64_t>(time.seconds) * 1'000'000'007 + time.nanos;
}

// Whether one entry may lead the other, of the same content.
bool are_alike(const Entry& a, const Entry& b) {
  return a.mtime == b.mtime && a.mode == b.mode && a.uid == b.uid && a.gid == b.gid &&
         a.user == b.user && a.group == b.group && a.target == b.target && a.xattrs == b.xattrs &&
         a.link_group == b.link_group;
}

Error broken_journal() {
  return Error(ErrorKind::kFailed, "the index: its journal cannot be read",
               "without this file, which is only a cache, the next run goes on too");
}

bool holds_content(const IndexEntry& entry) {
  const LedgerEntry& line = entry.line;
  return line.digest && line.tar_offset && !line.in_set && !line.in_path && !entry.unsettled;
}

}  // namespace

// A statement that was not stepped to its end keeps the snapshot of its transaction.
void Index::reset_statements() {
  for (auto& [sql, s] : statements_) s->reset();
}

void Index::must_not_be_pending() {
  auto set = pending();
  if (!set) return;
  throw Error(ErrorKind::kFailed,
              "the index: " + set->set.to_string() + " is pending, and its journal is needed");
}

void Index::begin_journal() {
  must_not_be_pending();
  reset_statements();
  transaction_.reset();
  staged_.reset();
  transaction_ = std::make_unique<SQLite::Transaction>(*database_);
  database_->exec(kForgetJournal);
  database_->exec(
      "DROP INDEX IF EXISTS journal_key; DELETE FROM journal_mark;"
      "DELETE FROM links; DELETE FROM temp.fresh_stretch");
  contents_.clear();
  last_key_.clear();
  journal_keyed_ = false;
  forget_batch();
}

void Index::journal_start() {
  begin_journal();
  database_->exec(kForgetBegun);
}

void Index::roll_back() {
  reset_statements();
  transaction_.reset();
  staged_.reset();
  forget_owners();  // those that were added in it are gone
  look_at_journal();
}

// Most journals are written in path order and read in the order they were written. Only what looks
// for a path, or comes out of order, needs rows and keys, which cost less at once than row by row.
void Index::need_journal_keys() {
  if (journal_keyed_) return;
  write_batch();
  database_->exec(std::string("INSERT INTO journal(id, ") + kRowColumns + ") SELECT id, " +
                  kRowColumns + " FROM packed_journal ORDER BY id; DELETE FROM journal_batch");
  database_->exec(kJournalKeys);
  journal_keyed_ = true;
}

// What an earlier process, or a transaction that was taken back, left of it.
void Index::look_at_journal() {
  int keys = database_->execAndGet("SELECT count(*) FROM sqlite_master WHERE name = 'journal_key'");
  journal_keyed_ = keys != 0;
  forget_batch();
  const char* next =
      "SELECT coalesce((SELECT first + rows FROM journal_batch ORDER BY first DESC LIMIT 1), 1)";
  next_row_ = database_->execAndGet(next).getInt64();
}

void Index::forget_batch() {
  batch_.clear();
  batch_rows_ = 0;
  next_row_ = 1;
}

void Index::write_batch() {
  if (batch_rows_ == 0) return;
  auto& s = statement("INSERT INTO journal_batch VALUES(?, ?, ?)");
  s.bind(1, next_row_ - batch_rows_);
  s.bind(2, batch_rows_);
  bind_blob(s, 3, batch_);
  s.exec();
  batch_.clear();
  batch_rows_ = 0;
}

const char* Index::journal_table() {
  write_batch();
  return journal_keyed_ ? "main.journal" : "packed_journal";
}

void Index::journal_put(const IndexEntry& entry) {
  std::string key = path_key(entry.line.entry.path);
  bool in_order = last_key_.empty() || last_key_ < key;
  if (!in_order) need_journal_keys();
  const Entry& e = entry.line.entry;
  std::string extra = pack_extra(e);
  std::int64_t row = 0;
  if (journal_keyed_) {
    static const std::string kInsert = insert_row("journal");
    put_row(kInsert.c_str(), key, entry);
    row = database_->getLastInsertRowid();
  } else {
    row = pack_entry(entry, key, extra);
  }
  if (in_order) last_key_ = std::move(key);
  if (!entry.line.digest) return;
  if (e.size > kNotedAbove) contents_.note_size(e.size, as_number(e.mtime));
  if (!holds_content(entry)) return;
  contents_.put(*entry.line.digest, 0, row);
  contents_.put(*entry.line.digest, metadata_hash(e, owner_id(e), extra), row);
}

std::int64_t Index::pack_entry(const IndexEntry& entry, const std::string& key,
                               const std::string& extra) {
  const LedgerEntry& line = entry.line;
  const Entry& e = line.entry;
  std::string in_key, ranges = pack_ranges(line.ranges);
  JournalRow row;
  row.key = key;
  row.type = static_cast<std::uint8_t>(e.type);
  row.flags = static_cast<std::uint64_t>(row_flags(entry));
  row.size = e.size;
  row.mtime = e.mtime;
  row.ctime = e.ctime;
  row.inode = entry.inode;
  row.mode = e.mode;
  row.owner = static_cast<std::uint64_t>(owner_id(e));
  if (line.digest) row.digest = as_text(*line.digest);
  row.extra = extra;
  row.link_group = e.link_group;
  row.tar_offset = line.tar_offset;
  if (line.in_set) row.in_set = static_cast<std::uint64_t>(line.in_set->sequence());
  if (line.in_path) row.in_key = in_key = path_key(*line.in_path);
  row.link_offset = entry.link_offset;
  row.ranges = ranges;
  packed_.clear();
  pack_row(packed_, row);
  if (batch_.size() + packed_.size() > kPackedBytes) write_batch();
  batch_ += packed_;
  ++batch_rows_;
  return next_row_++;
}

void Index::take_row(const JournalRow& row, IndexEntry& entry) {
  LedgerEntry& line = entry.line;
  Entry& e = line.entry;
  e.path = path_from_key(row.key);
  e.type = static_cast<EntryType>(row.type);
  e.size = row.size;
  e.mtime = row.mtime;
  e.ctime = row.ctime;
  entry.inode = row.inode;
  e.mode = static_cast<std::uint32_t>(row.mode);
  take_owner(static_cast<std::int64_t>(row.owner), e);
  if (row.digest.size() == sizeof(Digest)) {
    std::copy_n(as_bytes(row.digest).begin(), sizeof(Digest), line.digest.emplace().begin());
  }
  unpack_extra(row.extra, e);
  read_flags(static_cast<int>(row.flags), entry);
  e.link_group = row.link_group;
  line.tar_offset = row.tar_offset;
  if (row.in_set) line.in_set = SetId::from_sequence(static_cast<std::int64_t>(*row.in_set));
  if (row.in_key) line.in_path = path_from_key(*row.in_key);
  entry.link_offset = row.link_offset;
  if (!row.ranges.empty()) line.ranges = unpack_ranges(row.ranges);
}

// False if there is no such row.
bool Index::find_journal_row(std::int64_t row, IndexEntry& entry) {
  if (journal_keyed_) {
    static const std::string kQuery =
        std::string("SELECT ") + kRowColumns + " FROM journal WHERE id = ?";
    auto& s = statement(kQuery.c_str());
    s.bind(1, row);
    if (!s.executeStep()) return false;
    read_row(s, entry);
    return true;
  }
  std::int64_t at = next_row_ - batch_rows_;
  std::string held;
  if (row < at) {
    auto& s = statement(
        "SELECT first, packed FROM journal_batch WHERE first <= ? ORDER BY first DESC LIMIT 1");
    s.bind(1, row);
    if (!s.executeStep()) return false;
    at = s.getColumn(0).getInt64();
    held = column_blob(s, 1);
    s.reset();
  }
  JournalRow found;
  for (std::string_view rest = held.empty() ? batch_ : held; !rest.empty(); ++at) {
    if (!unpack_head(rest, found)) throw broken_journal();
    if (at != row) continue;
    if (!unpack_rest(found)) throw broken_journal();
    take_row(found, entry);
    return true;
  }
  return false;
}

void Index::put_row(const char* insert, const std::string& key, const IndexEntry& entry) {
  auto& s = statement(insert);
  bind_blob(s, 1, key);
  bind_metadata(s, 2, entry);
  if (entry.line.tar_offset) s.bind(13, static_cast<std::int64_t>(*entry.line.tar_offset));
  if (entry.line.in_set) s.bind(14, entry.line.in_set->sequence());
  if (entry.line.in_path) bind_blob(s, 15, path_key(*entry.line.in_path));
  if (entry.link_offset) s.bind(16, static_cast<std::int64_t>(*entry.link_offset));
  if (!entry.line.ranges.empty()) bind_blob(s, 17, pack_ranges(entry.line.ranges));
  s.exec();
}

std::optional<ContentLocation> Index::journal_duplicate(const Entry& entry, const Digest& digest,
                                                        bool alike) {
  std::uint64_t besides = alike ? metadata_hash(entry, owner_id(entry), pack_extra(entry)) : 0;
  auto row = contents_.find(digest, besides);
  IndexEntry held;
  if (!row || !find_journal_row(*row, held)) return std::nullopt;
  bool same = held.line.entry.size == entry.size && held.line.digest == digest &&
              holds_content(held) && (!alike || are_alike(held.line.entry, entry));
  if (!same) return std::nullopt;
  return ContentLocation{{}, *held.line.tar_offset, held.line.entry.path, {}};
}

std::optional<IndexEntry> Index::find_row(const char* query, const std::string& path) {
  auto& s = statement(query);
  bind_blob(s, 1, path_key(path));
  if (!s.executeStep()) return std::nullopt;
  IndexEntry entry;
  read_row(s, entry);
  return entry;
}

std::optional<IndexEntry> Index::journal_find(const std::string& path) {
  need_journal_keys();
  static const std::string kQuery =
      std::string("SELECT ") + kRowColumns + " FROM journal WHERE key = ?";
  return find_row(kQuery.c_str(), path);
}

void Index::journal_drop(const std::string& path) {
  need_journal_keys();
  auto& s = statement("DELETE FROM journal WHERE key = ?");
  bind_blob(s, 1, path_key(path));
  s.exec();
}

std::uint64_t Index::journal_moves() {
  SQLite::Statement s(
      *database_,
      std::string("SELECT coalesce(sum(min(gone, moved)), 0) FROM (SELECT sum(type = 6) AS gone,"
                  " sum((flags & 16) != 0) AS moved FROM ") +
          journal_table() +
          " WHERE digest IS NOT NULL AND (type = 6 OR (flags & 16) != 0) GROUP BY size, digest)");
  s.executeStep();
  return static_cast<std::uint64_t>(s.getColumn(0).getInt64());
}

bool Index::journal_has_size(std::uint64_t size, std::optional<FileTime> mtime) {
  std::optional<std::uint64_t> time;
  if (mtime) time = as_number(*mtime);
  return contents_.has_size(size, time);
}

std::optional<FirstName> Index::first_link(std::uint64_t device, std::uint64_t inode,
                                           const FirstName& name) {
  auto& find = statement("SELECT path, link_group FROM links WHERE device = ? AND inode = ?");
  find.bind(1, static_cast<std::int64_t>(device));
  find.bind(2, static_cast<std::int64_t>(inode));
  if (find.executeStep()) {
    return FirstName{column_blob(find, 0),
                     static_cast<std::uint64_t>(find.getColumn(1).getInt64())};
  }
  auto& insert = statement("INSERT INTO links VALUES(?, ?, ?, ?)");
  insert.bind(1, static_cast<std::int64_t>(device));
  insert.bind(2, static_cast<std::int64_t>(inode));
  bind_blob(insert, 3, name.path);
  insert.bind(4, static_cast<std::int64_t>(name.group));
  insert.exec();
  return std::nullopt;
}

void Index::each_journal(const std::function<void(IndexEntry&)>& visit) {
  if (journal_keyed_) {
    SQLite::Statement s(*database_,
                        std::string("SELECT ") + kRowColumns + " FROM journal ORDER BY key");
    while (s.executeStep()) {
      IndexEntry entry;
      read_row(s, entry);
      visit(entry);
    }
    return;
  }
  each_packed([&](JournalRow& row) {
    if (!unpack_rest(row)) throw broken_journal();
    IndexEntry entry;
    take_row(row, entry);
    visit(entry);
    return true;
  });
}

void Index::each_packed(const std::function<bool(JournalRow&)>& visit) {
  write_batch();
  SQLite::Statement s(*database_, "SELECT packed FROM journal_batch ORDER BY first");
  JournalRow row;
  while (s.executeStep()) {
    const SQLite::Column packed = s.getColumn(0);
    std::string_view rest(static_cast<const char*>(packed.getBlob()),
                          static_cast<std::size_t>(packed.getBytes()));
    while (!rest.empty()) {
      if (!unpack_head(rest, row)) throw broken_journal();
      if (!visit(row)) return;
    }
  }
}

void Index::read_row(SQLite::Statement& s, IndexEntry& entry) {
  entry.line.entry.path = path_from_key(column_blob(s, 0));
  read_metadata(s, 1, entry);
  if (!s.getColumn(12).isNull()) {
    entry.line.tar_offset = static_cast<std::uint64_t>(s.getColumn(12).getInt64());
  }
  if (!s.getColumn(13).isNull()) {
    entry.line.in_set = SetId::from_sequence(s.getColumn(13).getInt64());
  }
  if (!s.getColumn(14).isNull()) entry.line.in_path = path_from_key(column_blob(s, 14));
  if (!s.getColumn(15).isNull()) {
    entry.link_offset = static_cast<std::uint64_t>(s.getColumn(15).getInt64());
  }
  if (!s.getColumn(16).isNull()) entry.line.ranges = unpack_ranges(column_blob(s, 16));
}

}  // namespace kestrum
