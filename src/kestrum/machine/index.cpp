// Rows and sets of the index.
#include "kestrum/machine/index.h"

#include <sqlite3.h>

#include <algorithm>

#include "kestrum/base/error.h"
#include "kestrum/base/file.h"
#include "kestrum/base/json.h"
#include "kestrum/machine/index_rows.h"
#include "kestrum/machine/pending_set.h"
#include "kestrum/select/path_order.h"

namespace kestrum {
void bind_blob(SQLite::Statement& statement, int at, std::string_view bytes) {
  statement.bind(at, bytes.empty() ? "" : bytes.data(), static_cast<int>(bytes.size()));
}

void bind_below(SQLite::Statement& statement, int at, const std::string& path) {
  bind_blob(statement, at, path_key(path));
  bind_blob(statement, at + 1, path_key(path) + '\x01');
}

std::string column_blob(SQLite::Statement& statement, int at) {
  return std::string(column_view(statement, at));
}

std::string_view column_view(SQLite::Statement& statement, int at) {
  SQLite::Column column = statement.getColumn(at);
  const void* bytes = column.getBlob();
  return {static_cast<const char*>(bytes == nullptr ? "" : bytes),
          static_cast<std::size_t>(column.getBytes())};
}

bool column_digest(SQLite::Statement& statement, int at, Digest& digest) {
  std::string_view bytes = column_view(statement, at);
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
  take_owner(s.getColumn(at + 6).getInt64(), e);
  Digest digest{};
  entry.line.digest.reset();
  if (column_digest(s, at + 7, digest)) entry.line.digest = digest;
  e.target.clear();
  e.xattrs.clear();
  e.device_major = e.device_minor = 0;
  e.block_device = false;
  unpack_extra(column_view(s, at + 8), e);
  read_flags(s.getColumn(at + 9).getInt(), entry);
  e.link_group = static_cast<std::uint64_t>(s.getColumn(at + 10).getInt64());
}

void Index::take_owner(std::int64_t owner, Entry& e) {
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
}

// ---- Sets

IndexedSet Index::read_set(SQLite::Statement& s) {
  IndexedSet set;
  set.set = SetId::from_sequence(s.getColumn(0).getInt64());
  set.kind = static_cast<SetKind>(s.getColumn(1).getInt());
  if (!s.getColumn(2).isNull()) set.based_on = SetId::from_sequence(s.getColumn(2).getInt64());
  set.started = s.getColumn(3).getInt64();
  set.roots = parse_roots(parse_json(s.getColumn(4).getString(), "index"));
  column_digest(s, 5, set.seal_digest);
  column_digest(s, 6, set.ledger_digest);
  set.lines = static_cast<std::uint64_t>(s.getColumn(7).getInt64());
  set.suspect_why = s.getColumn(9).getString();
  if (!s.getColumn(8).isNull()) {
    set.lacking = parse_lacking(parse_json(s.getColumn(8).getString(), "index"));
  }
  return set;
}

std::vector<IndexedSet> Index::sets() {
  static const std::string kQuery = std::string(kSets) + " ORDER BY sequence";
  auto& s = statement(kQuery.c_str());
  std::vector<IndexedSet> sets;
  while (s.executeStep()) sets.push_back(read_set(s));
  return sets;
}

std::optional<IndexedSet> Index::newest() {
  static const std::string kQuery = std::string(kSets) + " ORDER BY sequence DESC LIMIT 1";
  auto& s = statement(kQuery.c_str());
  if (!s.executeStep()) return std::nullopt;
  return read_set(s);
}

std::optional<IndexedSet> Index::find_set(SetId set) {
  static const std::string kQuery = std::string(kSets) + " WHERE sequence = ?";
  auto& s = statement(kQuery.c_str());
  s.bind(1, set.sequence());
  if (!s.executeStep()) return std::nullopt;
  return read_set(s);
}

bool Index::has(SetId set) {
  auto& s = statement("SELECT 1 FROM sets WHERE sequence = ?");
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

void Index::add_set(const IndexedSet& set) {
  auto& s = statement(
      "INSERT INTO sets(sequence, kind, base, started, roots, seal, ledger, lines, lacking,"
      " suspect_why) VALUES(?, ?, ?, ?, ?, ?, ?, ?, ?, ?)");
  s.bind(1, set.set.sequence());
  s.bind(2, static_cast<int>(set.kind));
  if (set.based_on) s.bind(3, set.based_on->sequence());
  s.bind(4, static_cast<std::int64_t>(set.started));
  s.bind(5, roots_json(set.roots).dump());
  bind_blob(s, 6, as_text(set.seal_digest));
  bind_blob(s, 7, as_text(set.ledger_digest));
  s.bind(8, static_cast<std::int64_t>(set.lines));
  if (set.lacking) s.bind(9, lacking_json(set.lacking).dump());
  s.bind(10, set.suspect_why);
  s.exec();
}

void Index::clear() {
  reset_statements();
  SQLite::Transaction transaction(*database_);
  database_->exec(kForgetBegun);
  database_->exec(kForgetJournal);
  database_->exec(
      "DELETE FROM journal_mark; DELETE FROM sets; DELETE FROM location; DELETE FROM version;"
      " DELETE FROM path; DELETE FROM owner; DELETE FROM stretch; DELETE FROM anchor");
  transaction.commit();
  forget_owners();
}

void Index::forget_owners() {
  owners_.clear();
  owner_names_.clear();
  last_owner_id_ = 0;
}

}  // namespace kestrum
