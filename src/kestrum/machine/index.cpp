// Rows and sets of the index, and the journal of the set being written.
#include "kestrum/machine/index.h"

#include <sqlite3.h>

#include <algorithm>

#include "kestrum/base/error.h"
#include "kestrum/base/file.h"
#include "kestrum/base/json.h"
#include "kestrum/machine/index_rows.h"
#include "kestrum/select/path_order.h"

namespace kestrum {
namespace {

// What read_set() takes, up to the condition.
constexpr const char* kSets =
    "SELECT sequence, kind, base, started, roots, seal, ledger, lines, lacking,"
    " suspect_why FROM sets WHERE ";

std::pair<std::size_t, std::uint64_t> filter_place(const Digest& digest, std::size_t words) {
  std::size_t word = get_le32(digest.data()) % words;
  return {word, std::uint64_t{1} << (digest[4] & 63)};
}

}  // namespace

void bind_blob(SQLite::Statement& statement, int at, std::string_view bytes) {
  statement.bind(at, bytes.empty() ? "" : bytes.data(), static_cast<int>(bytes.size()));
}

void bind_below(SQLite::Statement& statement, int at, const std::string& path) {
  bind_blob(statement, at, path_key(path));
  bind_blob(statement, at + 1, path_key(path) + '\x01');
}

std::string column_blob(SQLite::Statement& statement, int at) {
  SQLite::Column column = statement.getColumn(at);
  return std::string(static_cast<const char*>(column.getBlob() == nullptr ? "" : column.getBlob()),
                     static_cast<std::size_t>(column.getBytes()));
}

bool column_digest(SQLite::Statement& statement, int at, Digest& digest) {
  std::string bytes = column_blob(statement, at);
  if (bytes.size() != digest.size()) return false;
  std::copy_n(as_bytes(bytes).begin(), digest.size(), digest.begin());
  return true;
}

SQLite::Statement& Index::statement(const char* sql) {
  auto& slot = statements_[sql];
  if (!slot) {
    slot = std::make_unique<SQLite::Statement>(*database_, sql);
  } else {
    slot->reset();
    slot->clearBindings();
  }
  return *slot;
}

// ---- Rows

std::int64_t Index::owner_id(const Entry& e) {
  bool as_before = last_owner_id_ != 0 && e.uid == last_owner_.uid && e.gid == last_owner_.gid &&
                   e.user == last_owner_.user && e.group == last_owner_.group;
  if (as_before) return last_owner_id_;
  last_owner_.uid = e.uid;
  last_owner_.gid = e.gid;
  last_owner_.user = e.user;
  last_owner_.group = e.group;
  return last_owner_id_ = find_owner(e);
}

std::int64_t Index::find_owner(const Entry& e) {
  std::string key =
      std::to_string(e.uid) + ":" + std::to_string(e.gid) + ":" + e.user + ":" + e.group;
  if (auto it = owners_.find(key); it != owners_.end()) return it->second;
  for (int attempt = 0; attempt < 2; ++attempt) {
    auto& find =
        statement("SELECT id FROM owner WHERE uid = ? AND gid = ? AND user = ? AND grp = ?");
    find.bind(1, static_cast<std::int64_t>(e.uid));
    find.bind(2, static_cast<std::int64_t>(e.gid));
    bind_blob(find, 3, e.user);
    bind_blob(find, 4, e.group);
    if (find.executeStep()) return owners_[key] = find.getColumn(0).getInt64();
    auto& insert = statement("INSERT INTO owner(uid, gid, user, grp) VALUES(?, ?, ?, ?)");
    insert.bind(1, static_cast<std::int64_t>(e.uid));
    insert.bind(2, static_cast<std::int64_t>(e.gid));
    bind_blob(insert, 3, e.user);
    bind_blob(insert, 4, e.group);
    insert.exec();
  }
  throw Error(ErrorKind::kFailed, "the index does not keep what is written to it");
}

std::int64_t Index::path_id(const std::string& key) {
  auto& find = statement("SELECT id FROM path WHERE key = ?");
  bind_blob(find, 1, key);
  if (find.executeStep()) return find.getColumn(0).getInt64();
  auto& insert = statement("INSERT INTO path(key) VALUES(?)");
  bind_blob(insert, 1, key);
  insert.exec();
  return database_->getLastInsertRowid();
}

// Columns: type size mtime ctime inode mode owner digest extra flags link_group
void Index::bind_metadata(SQLite::Statement& s, int at, const IndexEntry& entry) {
  const Entry& e = entry.line.entry;
  s.bind(at, static_cast<int>(e.type));
  s.bind(at + 1, static_cast<std::int64_t>(e.size));
  bind_time(s, at + 2, e.mtime);
  bind_time(s, at + 3, e.ctime);
  s.bind(at + 4, static_cast<std::int64_t>(entry.inode));
  s.bind(at + 5, static_cast<std::int64_t>(e.mode));
  s.bind(at + 6, owner_id(e));
  if (entry.line.digest) {
    bind_blob(s, at + 7, as_text(*entry.line.digest));
  } else {
    s.bind(at + 7);
  }
  std::string extra = pack_extra(e);
  if (extra.empty()) {
    s.bind(at + 8);
  } else {
    bind_blob(s, at + 8, extra);
  }
  s.bind(at + 9, row_flags(entry));
  s.bind(at + 10, static_cast<std::int64_t>(e.link_group));
}

void Index::read_metadata(SQLite::Statement& s, int at, IndexEntry& entry) {
  Entry& e = entry.line.entry;
  e.type = static_cast<EntryType>(s.getColumn(at).getInt());
  e.size = static_cast<std::uint64_t>(s.getColumn(at + 1).getInt64());
  e.mtime = column_time(s, at + 2);
  e.ctime = column_time(s, at + 3);
  entry.inode = static_cast<std::uint64_t>(s.getColumn(at + 4).getInt64());
  e.mode = static_cast<std::uint32_t>(s.getColumn(at + 5).getInt64());
  std::int64_t owner = s.getColumn(at + 6).getInt64();
  auto known = owner_names_.find(owner);
  if (known == owner_names_.end()) {
    auto& find = statement("SELECT uid, gid, user, grp FROM owner WHERE id = ?");
    find.bind(1, owner);
    Entry names;
    if (find.executeStep()) {
      names.uid = static_cast<std::uint32_t>(find.getColumn(0).getInt64());
      names.gid = static_cast<std::uint32_t>(find.getColumn(1).getInt64());
      names.user = column_blob(find, 2);
      names.group = column_blob(find, 3);
    }
    known = owner_names_.emplace(owner, std::move(names)).first;
  }
  e.uid = known->second.uid;
  e.gid = known->second.gid;
  e.user = known->second.user;
  e.group = known->second.group;
  Digest digest{};
  entry.line.digest.reset();
  if (column_digest(s, at + 7, digest)) entry.line.digest = digest;
  e.target.clear();
  e.xattrs.clear();
  e.device_major = e.device_minor = 0;
  e.block_device = false;
  unpack_extra(column_blob(s, at + 8), e);
  read_flags(s.getColumn(at + 9).getInt(), entry);
  e.link_group = static_cast<std::uint64_t>(s.getColumn(at + 10).getInt64());
}

// ---- Sets

IndexedSet Index::read_set(SQLite::Statement& s) {
  IndexedSet set;
  set.set = SetId::from_sequence(s.getColumn(0).getInt64());
  set.kind = static_cast<SetKind>(s.getColumn(1).getInt());
  if (!s.getColumn(2).isNull()) set.based_on = SetId::from_sequence(s.getColumn(2).getInt64());
  set.started = s.getColumn(3).getInt64();
  for (const Json& root : parse_json(s.getColumn(4).getString(), "index")) {
    KnownRoot known;
    known.absent = root.value("absent", false);
    if (get_name(root, "path", known.path, "index")) set.roots.push_back(std::move(known));
  }
  column_digest(s, 5, set.seal_digest);
  column_digest(s, 6, set.ledger_digest);
  set.lines = static_cast<std::uint64_t>(s.getColumn(7).getInt64());
  set.suspect_why = s.getColumn(9).getString();
  if (s.getColumn(8).isNull()) return set;
  set.lacking.emplace();
  for (const Json& item : parse_json(s.getColumn(8).getString(), "index")) {
    Lacking lack;
    lack.set = SetId::from_sequence(item.value("set", std::int64_t{0}));
    if (get_name(item, "path", lack.path, "index")) set.lacking->push_back(std::move(lack));
  }
  return set;
}

std::vector<IndexedSet> Index::sets() {
  static const std::string kQuery = std::string(kSets) + "pending = 0 ORDER BY sequence";
  auto& s = statement(kQuery.c_str());
  std::vector<IndexedSet> sets;
  while (s.executeStep()) sets.push_back(read_set(s));
  return sets;
}

std::optional<IndexedSet> Index::newest() {
  static const std::string kQuery =
      std::string(kSets) + "pending = 0 ORDER BY sequence DESC LIMIT 1";
  auto& s = statement(kQuery.c_str());
  if (!s.executeStep()) return std::nullopt;
  return read_set(s);
}

std::optional<IndexedSet> Index::find_set(SetId set) {
  static const std::string kQuery = std::string(kSets) + "pending = 0 AND sequence = ?";
  auto& s = statement(kQuery.c_str());
  s.bind(1, set.sequence());
  if (!s.executeStep()) return std::nullopt;
  return read_set(s);
}

bool Index::has(SetId set) {
  auto& s = statement("SELECT 1 FROM sets WHERE sequence = ? AND pending = 0");
  s.bind(1, set.sequence());
  return s.executeStep();
}

Error index_error(const SQLite::Exception& error) {
  bool full =
      error.getErrorCode() == SQLITE_FULL || error.getExtendedErrorCode() == SQLITE_IOERR_SHMSIZE;
  if (!full) return Error(ErrorKind::kFailed, std::string("the index: ") + error.what());
  return Error(ErrorKind::kNoRoom,
               "this PC's own disk is full: what Kestrum remembers of its sets cannot grow",
               "free some room on the disk of the state folder, then run again");
}

std::vector<std::int64_t> ancestors_of(SetId set, const std::vector<IndexedSet>& sets) {
  std::vector<std::int64_t> chain;
  std::optional<SetId> at = set;
  while (at) {
    auto it = std::find_if(sets.begin(), sets.end(), [&](const auto& s) { return s.set == *at; });
    if (it == sets.end()) {
      throw Error(ErrorKind::kDamage,
                  set.to_string() + " needs " + at->to_string() + ", which is not here");
    }
    chain.push_back(at->sequence());
    at = it->based_on;
  }
  std::reverse(chain.begin(), chain.end());
  return chain;
}

// ---- Journal

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

void Index::journal_start() {
  must_not_be_pending();
  reset_statements();
  transaction_ = std::make_unique<SQLite::Transaction>(*database_);
  database_->exec("DELETE FROM journal; DELETE FROM links");
  database_->exec(kForgetBegun);
  duplicate_filter_.assign(kFilterWords, 0);
}

void Index::roll_back() {
  reset_statements();
  transaction_.reset();
  forget_owners();  // those that were added in it are gone
}

void Index::journal_put(const IndexEntry& entry) {
  if (entry.line.digest && !duplicate_filter_.empty()) {
    auto [word, bit] = filter_place(*entry.line.digest, kFilterWords);
    duplicate_filter_[word] |= bit;
  }
  static const std::string kInsert = insert_row("journal");
  put_row(kInsert.c_str(), entry);
}

void Index::put_row(const char* insert, const IndexEntry& entry) {
  auto& s = statement(insert);
  bind_blob(s, 1, path_key(entry.line.entry.path));
  bind_metadata(s, 2, entry);
  if (entry.line.tar_offset) s.bind(13, static_cast<std::int64_t>(*entry.line.tar_offset));
  if (entry.line.in_set) s.bind(14, entry.line.in_set->sequence());
  if (entry.line.in_path) bind_blob(s, 15, path_key(*entry.line.in_path));
  if (entry.link_offset) s.bind(16, static_cast<std::int64_t>(*entry.link_offset));
  s.exec();
}

std::optional<Duplicate> Index::journal_duplicate(const Entry& entry, const Digest& digest) {
  auto [word, bit] = filter_place(digest, kFilterWords);
  if (!duplicate_filter_.empty() && (duplicate_filter_[word] & bit) == 0) return std::nullopt;
  auto& s = statement(
      "SELECT key, tar_offset, mtime = ?3 AND mode = ?4 AND owner = ?5 AND coalesce(extra, x'') = "
      "?6 AND link_group = ?7"
      " FROM journal WHERE size = ?1 AND digest IS NOT NULL"
      " AND substr(digest, 1, 8) = substr(?2, 1, 8) AND digest = ?2 AND in_set IS NULL"
      " AND in_key IS NULL AND tar_offset IS NOT NULL AND (flags & ?8) = 0 ORDER BY 3 DESC LIMIT "
      "1");
  s.bind(1, static_cast<std::int64_t>(entry.size));
  bind_blob(s, 2, as_text(digest));
  bind_time(s, 3, entry.mtime);
  s.bind(4, static_cast<std::int64_t>(entry.mode));
  s.bind(5, owner_id(entry));
  bind_blob(s, 6, pack_extra(entry));
  s.bind(7, static_cast<std::int64_t>(entry.link_group));
  s.bind(8, kUnsettledFlag);
  if (!s.executeStep()) return std::nullopt;
  return Duplicate{
      {{}, static_cast<std::uint64_t>(s.getColumn(1).getInt64()), path_from_key(column_blob(s, 0))},
      s.getColumn(2).getInt() != 0};
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
  static const std::string kQuery =
      std::string("SELECT ") + kRowColumns + " FROM journal WHERE key = ?";
  return find_row(kQuery.c_str(), path);
}

void Index::journal_drop(const std::string& path) {
  auto& s = statement("DELETE FROM journal WHERE key = ?");
  bind_blob(s, 1, path_key(path));
  s.exec();
}

std::uint64_t Index::journal_moves() {
  auto& s = statement(
      "SELECT coalesce(sum(min(gone, moved)), 0) FROM (SELECT sum(type = 6) AS gone,"
      " sum((flags & 16) != 0) AS moved FROM journal WHERE digest IS NOT NULL"
      " GROUP BY size, digest)");
  s.executeStep();
  return static_cast<std::uint64_t>(s.getColumn(0).getInt64());
}

bool Index::journal_has_size(std::uint64_t size, std::optional<FileTime> mtime) {
  auto& s = statement(
      "SELECT 1 FROM journal WHERE size = ? AND mtime = coalesce(?, mtime) AND digest IS NOT NULL "
      "LIMIT 1");
  s.bind(1, static_cast<std::int64_t>(size));
  if (mtime) bind_time(s, 2, *mtime);
  return s.executeStep();
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

void Index::each_journal(const std::function<void(const IndexEntry&)>& visit) {
  SQLite::Statement s(*database_,
                      std::string("SELECT ") + kRowColumns + " FROM journal ORDER BY key");
  while (s.executeStep()) {
    IndexEntry entry;
    read_row(s, entry);
    visit(entry);
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
}

void Index::set_pending(const IndexedSet& set) {
  Json roots = Json::array();
  for (const KnownRoot& root : set.roots) {
    Json item;
    put_name(item, "path", root.path);
    item["absent"] = root.absent;
    roots.push_back(item);
  }
  auto& s = statement(
      "INSERT INTO sets(sequence, kind, base, started, roots, ledger, lines, lacking, suspect_why,"
      " pending) VALUES(?, ?, ?, ?, ?, ?, ?, ?, ?, 1)");
  s.bind(1, set.set.sequence());
  s.bind(2, static_cast<int>(set.kind));
  if (set.based_on) s.bind(3, set.based_on->sequence());
  s.bind(4, static_cast<std::int64_t>(set.started));
  s.bind(5, roots.dump());
  bind_blob(s, 6, as_text(set.ledger_digest));
  s.bind(7, static_cast<std::int64_t>(set.lines));
  if (set.lacking) {
    Json list = Json::array();
    for (const Lacking& lack : *set.lacking) {
      Json item = {{"set", lack.set.sequence()}};
      put_name(item, "path", lack.path);
      list.push_back(std::move(item));
    }
    s.bind(8, list.dump());
  }
  s.bind(9, set.suspect_why);
  s.exec();
  reset_statements();
  if (transaction_) {
    transaction_->commit();
    transaction_.reset();
  }
}

std::optional<IndexedSet> Index::pending() {
  static const std::string kQuery = std::string(kSets) + "pending = 1";
  auto& s = statement(kQuery.c_str());
  if (!s.executeStep()) return std::nullopt;
  return read_set(s);
}

void Index::clear() {
  reset_statements();
  SQLite::Transaction transaction(*database_);
  database_->exec(kForgetBegun);
  database_->exec(
      "DELETE FROM journal; DELETE FROM sets; DELETE FROM location; DELETE FROM version;"
      " DELETE FROM path; DELETE FROM owner");
  transaction.commit();
  forget_owners();
}

void Index::forget_owners() {
  owners_.clear();
  owner_names_.clear();
  last_owner_id_ = 0;
}

void Index::drop_pending() {
  reset_statements();
  SQLite::Transaction transaction(*database_);
  database_->exec("DELETE FROM sets WHERE pending = 1");
  transaction.commit();
}

}  // namespace kestrum
