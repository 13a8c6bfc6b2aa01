// Turning a pending set into versions, and reading the state at a restore point.
#include <algorithm>

#include "kestrum/base/error.h"
#include "kestrum/select/path_order.h"
#include "kestrum/shelf/index.h"
#include "kestrum/shelf/index_rows.h"

namespace kestrum {
namespace {

// The first key behind everything below `key`.
std::string end_of_subtree(std::string key) { return key + '\x01'; }

}  // namespace

void Index::apply_entry(const IndexEntry& entry, std::int64_t sequence, const char* touched) {
  const Entry& e = entry.line.entry;
  std::string key = path_key(e.path);
  std::int64_t path = path_id(key);
  auto& touch = statement(touched);
  touch.bind(1, path);
  touch.exec();

  auto& find = statement(
      "SELECT id, type, size, mtime, ctime, inode, mode, owner, digest, extra, flags FROM version"
      " WHERE path = ? AND until IS NULL");
  find.bind(1, path);
  std::optional<IndexEntry> current;
  if (find.executeStep()) {
    current.emplace();
    current->version = find.getColumn(0).getInt64();
    current->line.entry.path = e.path;
    read_metadata(find, 1, *current);
  }
  find.reset();

  auto close = [&](int ended) {
    auto& s = statement("UPDATE version SET until = ?, ended = ? WHERE id = ?");
    s.bind(1, sequence);
    if (ended != 0) s.bind(2, ended);
    s.bind(3, current->version);
    s.exec();
  };
  if (e.type == EntryType::kGone || e.type == EntryType::kLeftOut) {
    if (current) close(static_cast<int>(e.type));
    return;
  }
  std::int64_t version = 0;
  if (current && same_state(*current, entry)) {
    version = current->version;
    if (current->inode != entry.inode || current->line.entry.ctime != e.ctime ||
        current->unsure != entry.unsure) {
      auto& s = statement("UPDATE version SET ctime = ?, inode = ?, flags = ? WHERE id = ?");
      IndexEntry stat = *current;
      stat.unsure = entry.unsure;
      s.bind(1, static_cast<std::int64_t>(e.ctime));
      s.bind(2, static_cast<std::int64_t>(entry.inode));
      s.bind(3, row_flags(stat));
      s.bind(4, version);
      s.exec();
    }
  } else {
    if (entry.index_only) return;  // the row it was meant for is no longer the current one
    if (current) close(0);
    auto& s = statement(
        "INSERT INTO version(path, first, type, size, mtime, ctime, inode, mode, owner, digest,"
        " extra, flags) VALUES(?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)");
    s.bind(1, path);
    s.bind(2, sequence);
    bind_metadata(s, 3, entry);
    s.exec();
    version = database_->getLastInsertRowid();
  }
  if (e.type == EntryType::kFile && entry.line.tar_offset) {
    std::int64_t holder = 0;
    if (entry.line.in_path && *entry.line.in_path != e.path) {
      holder = path_id(path_key(*entry.line.in_path));
    }
    auto& s = statement("INSERT OR REPLACE INTO location VALUES(?, ?, ?, ?)");
    s.bind(1, version);
    s.bind(2, entry.line.in_set ? entry.line.in_set->sequence() : sequence);
    s.bind(3, static_cast<std::int64_t>(*entry.line.tar_offset));
    if (holder != 0) s.bind(4, holder);
    s.exec();
  }
}

// Paths without a line are at this set what they were at its base, whatever sets in between said.
void Index::revert_untouched(std::int64_t sequence, std::int64_t base) {
  auto& close = statement(
      "UPDATE version SET until = ?1 WHERE until IS NULL AND first > ?2 AND first < ?1"
      " AND path NOT IN (SELECT path FROM touched)");
  close.bind(1, sequence);
  close.bind(2, base);
  close.exec();
  SQLite::Statement back(*database_,
      "SELECT id, path FROM version WHERE first <= ?1 AND until > ?1 AND until <= ?2"
      " AND path NOT IN (SELECT path FROM touched)");
  back.bind(1, base);
  back.bind(2, sequence);
  std::vector<std::pair<std::int64_t, std::int64_t>> rows;
  while (back.executeStep()) {
    rows.emplace_back(back.getColumn(0).getInt64(), back.getColumn(1).getInt64());
  }
  for (const auto& [id, path] : rows) {
    auto& copy = statement(
        "INSERT INTO version(path, first, type, size, mtime, ctime, inode, mode, owner, digest,"
        " extra, flags) SELECT path, ?, type, size, mtime, ctime, inode, mode, owner, digest, extra,"
        " flags FROM version WHERE id = ?");
    copy.bind(1, sequence);
    copy.bind(2, id);
    copy.exec();
    std::int64_t added = database_->getLastInsertRowid();
    auto& locations = statement(
        "INSERT INTO location SELECT ?, set_sequence, tar_offset, holder FROM location"
        " WHERE version = ?");
    locations.bind(1, added);
    locations.bind(2, id);
    locations.exec();
  }
}

void Index::apply_pending(const Digest& seal_digest) {
  auto set = pending();
  if (!set) throw Error(ErrorKind::kFailed, "the index has no set to take over");
  auto before = newest();
  std::int64_t sequence = set->set.sequence();
  reset_statements();
  SQLite::Transaction transaction(*database_);
  database_->exec("DELETE FROM touched");
  each_journal([&](const IndexEntry& entry) {
    apply_entry(entry, sequence, "INSERT OR IGNORE INTO touched VALUES(?)");
  });
  if (set->kind == SetKind::kFull) {
    auto& close = statement(
        "UPDATE version SET until = ?1, ended = NULL WHERE until IS NULL AND first < ?1"
        " AND path NOT IN (SELECT path FROM touched)");
    close.bind(1, sequence);
    close.exec();
  } else if (before && set->based_on != before->set) {
    revert_untouched(sequence, set->based_on->sequence());
  }
  auto& current = statement("UPDATE sets SET pending = 0, seal = ? WHERE sequence = ?");
  bind_blob(current, 1, as_text(seal_digest));
  current.bind(2, sequence);
  current.exec();
  current.reset();
  database_->exec("DELETE FROM journal; DELETE FROM touched");
  transaction.commit();
}

// ---- Reading

Index::Cursor::Cursor(Index& index, SetId set, const std::optional<std::string>& below)
    : index_(index) {
  std::string sql =
      "SELECT p.key, v.type, v.size, v.mtime, v.ctime, v.inode, v.mode, v.owner, v.digest, v.extra,"
      " v.flags, v.id FROM path p CROSS JOIN version v ON v.path = p.id"
      " WHERE v.first <= ?1 AND (v.until IS NULL OR v.until > ?1)";
  bool narrowed = below && !below->empty();
  if (narrowed) sql += " AND p.key >= ?2 AND p.key < ?3";
  sql += " ORDER BY p.key";
  statement_ = std::make_unique<SQLite::Statement>(*index.database_, sql);
  statement_->bind(1, set.sequence());
  if (narrowed) {
    bind_blob(*statement_, 2, path_key(*below));
    bind_blob(*statement_, 3, end_of_subtree(path_key(*below)));
  }
}

bool Index::Cursor::next(IndexEntry& entry) {
  if (!statement_->executeStep()) return false;
  entry.line.entry.path = path_from_key(column_blob(*statement_, 0));
  index_.read_metadata(*statement_, 1, entry);
  entry.version = statement_->getColumn(11).getInt64();
  return true;
}

Index::Cursor Index::state_at(SetId set, const std::optional<std::string>& below) {
  return Cursor(*this, set, below);
}

std::optional<IndexEntry> Index::find(SetId set, const std::string& path) {
  auto& s = statement(
      "SELECT v.type, v.size, v.mtime, v.ctime, v.inode, v.mode, v.owner, v.digest, v.extra, v.flags,"
      " v.id FROM path p JOIN version v ON v.path = p.id"
      " WHERE p.key = ?1 AND v.first <= ?2 AND (v.until IS NULL OR v.until > ?2)");
  bind_blob(s, 1, path_key(path));
  s.bind(2, set.sequence());
  if (!s.executeStep()) return std::nullopt;
  IndexEntry entry;
  entry.line.entry.path = path;
  entry.version = s.getColumn(10).getInt64();
  read_metadata(s, 0, entry);
  return entry;
}

std::uint64_t Index::count_at(SetId set) {
  auto& s = statement(
      "SELECT count(*) FROM version WHERE first <= ?1 AND (until IS NULL OR until > ?1)");
  s.bind(1, set.sequence());
  s.executeStep();
  return static_cast<std::uint64_t>(s.getColumn(0).getInt64());
}

std::optional<ContentLocation> Index::find_content(std::uint64_t size, const Digest& digest,
                                                   const std::vector<std::int64_t>& ancestors) {
  auto& s = statement(
      "SELECT l.set_sequence, l.tar_offset, coalesce(h.key, p.key) FROM version v"
      " JOIN location l ON l.version = v.id JOIN path p ON p.id = v.path"
      " LEFT JOIN path h ON h.id = l.holder"
      " WHERE v.size = ?1 AND v.digest IS NOT NULL AND substr(v.digest, 1, 8) = substr(?2, 1, 8)"
      " AND v.digest = ?2");
  s.bind(1, static_cast<std::int64_t>(size));
  bind_blob(s, 2, as_text(digest));
  while (s.executeStep()) {
    std::int64_t sequence = s.getColumn(0).getInt64();
    if (!std::binary_search(ancestors.begin(), ancestors.end(), sequence)) continue;
    return ContentLocation{SetId::from_sequence(sequence),
                           static_cast<std::uint64_t>(s.getColumn(1).getInt64()),
                           path_from_key(column_blob(s, 2))};
  }
  return std::nullopt;
}

bool Index::has_size(std::uint64_t size, std::optional<Nanos> mtime) {
  auto& s = statement(
      "SELECT 1 FROM version WHERE size = ? AND mtime = coalesce(?, mtime) AND digest IS NOT NULL LIMIT 1");
  s.bind(1, static_cast<std::int64_t>(size));
  if (mtime) s.bind(2, static_cast<std::int64_t>(*mtime));
  return s.executeStep();
}

std::optional<ContentLocation> Index::location_of(std::int64_t version,
                                                  const std::vector<std::int64_t>& ancestors) {
  auto& s = statement(
      "SELECT l.set_sequence, l.tar_offset, coalesce(h.key, p.key) FROM location l"
      " JOIN version v ON v.id = l.version JOIN path p ON p.id = v.path"
      " LEFT JOIN path h ON h.id = l.holder WHERE l.version = ?");
  s.bind(1, version);
  while (s.executeStep()) {
    std::int64_t sequence = s.getColumn(0).getInt64();
    if (!std::binary_search(ancestors.begin(), ancestors.end(), sequence)) continue;
    return ContentLocation{SetId::from_sequence(sequence),
                           static_cast<std::uint64_t>(s.getColumn(1).getInt64()),
                           path_from_key(column_blob(s, 2))};
  }
  return std::nullopt;
}

std::vector<PathVersion> Index::history_of(const std::string& path) {
  auto& s = statement(
      "SELECT v.first, v.until, v.ended, v.type, v.size, v.mtime, v.ctime, v.inode, v.mode, v.owner,"
      " v.digest, v.extra, v.flags, v.id FROM path p JOIN version v ON v.path = p.id"
      " WHERE p.key = ? ORDER BY v.first");
  bind_blob(s, 1, path_key(path));
  std::vector<PathVersion> versions;
  while (s.executeStep()) {
    PathVersion version;
    version.first = SetId::from_sequence(s.getColumn(0).getInt64());
    if (!s.getColumn(1).isNull()) version.until = SetId::from_sequence(s.getColumn(1).getInt64());
    if (!s.getColumn(2).isNull()) version.ended = static_cast<EntryType>(s.getColumn(2).getInt());
    version.entry.line.entry.path = path;
    version.entry.version = s.getColumn(13).getInt64();
    read_metadata(s, 3, version.entry);
    versions.push_back(std::move(version));
  }
  return versions;
}

void Index::each_content_in(SetId set,
                            const std::function<void(const IndexEntry&, std::uint64_t)>& visit) {
  SQLite::Statement s(*database_,
      "SELECT p.key, v.type, v.size, v.mtime, v.ctime, v.inode, v.mode, v.owner, v.digest, v.extra,"
      " v.flags, v.id, l.tar_offset, h.key FROM location l JOIN version v ON v.id = l.version"
      " JOIN path p ON p.id = v.path LEFT JOIN path h ON h.id = l.holder"
      " WHERE l.set_sequence = ? ORDER BY l.tar_offset, p.key");
  s.bind(1, set.sequence());
  while (s.executeStep()) {
    IndexEntry entry;
    entry.line.entry.path = path_from_key(column_blob(s, 0));
    read_metadata(s, 1, entry);
    entry.version = s.getColumn(11).getInt64();
    auto offset = static_cast<std::uint64_t>(s.getColumn(12).getInt64());
    entry.line.tar_offset = offset;
    entry.line.in_path = s.getColumn(13).isNull() ? entry.line.entry.path
                                                  : path_from_key(column_blob(s, 13));
    visit(entry, offset);
  }
}

}  // namespace kestrum
