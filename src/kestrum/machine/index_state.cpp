// Reading the state at a restore point.
#include <algorithm>

#include "kestrum/base/error.h"
#include "kestrum/machine/content_key.h"
#include "kestrum/machine/index.h"
#include "kestrum/machine/index_rows.h"
#include "kestrum/select/path_order.h"

namespace kestrum {
namespace {

// What read_location() takes, of `location l`, its version's path `p` and the path of the holder
// `h`.
constexpr const char* kLocationColumns =
    "l.set_sequence, l.tar_offset, coalesce(h.key, p.key), l.ranges";

ContentLocation read_location(SQLite::Statement& s, int at) {
  ContentLocation location{SetId::from_sequence(s.getColumn(at).getInt64()),
                           static_cast<std::uint64_t>(s.getColumn(at + 1).getInt64()),
                           path_from_key(column_blob(s, at + 2)),
                           {}};
  if (s.getColumn(at + 3).isNull()) return location;
  location.ranges = unpack_ranges(column_blob(s, at + 3));
  name_set(location.ranges, location.set);
  return location;
}

// The first key behind everything below `key`.
std::string end_of_subtree(const std::string& key) {
  return key + '\x01';
}

}  // namespace

Index::Cursor::Cursor(Index& index, SetId set, const std::optional<std::string>& below)
    : index_(index) {
  std::string sql =
      "SELECT p.key, v.type, v.size, v.mtime, v.ctime, v.inode, v.mode, v.owner, v.digest, v.extra,"
      " v.flags, v.link_group, v.id FROM path p CROSS JOIN version v ON v.path = p.id"
      " WHERE v.first <= ?1 AND (v.until IS NULL OR v.until > ?1) AND p.key >= ?2";
  bool narrowed = below && !below->empty();
  if (narrowed) sql += " AND p.key < ?3";
  sql += " ORDER BY p.key";
  statement_ = std::make_unique<SQLite::Statement>(*index.database_, sql);
  statement_->bind(1, set.sequence());
  bind_blob(*statement_, 2, narrowed ? path_key(*below) : "");
  if (narrowed) bind_blob(*statement_, 3, end_of_subtree(path_key(*below)));
}

void Index::Cursor::skip_below(const std::string& path) {
  statement_->reset();
  if (path.empty()) return statement_->bind(1, -1);  // "/": nothing is left
  bind_blob(*statement_, 2, end_of_subtree(path_key(path)));
}

bool Index::Cursor::next(IndexEntry& entry) {
  if (!statement_->executeStep()) return false;
  path_from_key(column_view(*statement_, 0), entry.line.entry.path);
  index_.read_metadata(*statement_, 1, entry);
  entry.version = statement_->getColumn(12).getInt64();
  return true;
}

Index::Cursor Index::state_at(SetId set, const std::optional<std::string>& below) {
  return Cursor(*this, set, below);
}

std::optional<IndexEntry> Index::find(SetId set, const std::string& path) {
  auto& s = statement(
      "SELECT v.type, v.size, v.mtime, v.ctime, v.inode, v.mode, v.owner, v.digest, v.extra, "
      "v.flags, v.link_group,"
      " v.id FROM path p JOIN version v ON v.path = p.id"
      " WHERE p.key = ?1 AND v.first <= ?2 AND (v.until IS NULL OR v.until > ?2)");
  bind_blob(s, 1, path_key(path));
  s.bind(2, set.sequence());
  if (!s.executeStep()) return std::nullopt;
  IndexEntry entry;
  entry.line.entry.path = path;
  entry.version = s.getColumn(11).getInt64();
  read_metadata(s, 0, entry);
  return entry;
}

// Rows are given again once what had them is gone.
std::optional<IndexEntry> Index::find(SetId set, const std::string& path, std::int64_t version) {
  auto& s = statement(
      "SELECT v.type, v.size, v.mtime, v.ctime, v.inode, v.mode, v.owner, v.digest, v.extra, "
      "v.flags, v.link_group, p.key"
      " FROM version v JOIN path p ON p.id = v.path"
      " WHERE v.id = ?1 AND v.first <= ?2 AND (v.until IS NULL OR v.until > ?2)");
  s.bind(1, version);
  s.bind(2, set.sequence());
  if (!s.executeStep() || column_blob(s, 11) != path_key(path)) return find(set, path);
  IndexEntry entry;
  entry.line.entry.path = path;
  entry.version = version;
  read_metadata(s, 0, entry);
  return entry;
}

bool Index::knows_below(const std::string& path, SetId set, std::optional<SetId> since) {
  SQLite::Statement s(*database_,
                      std::string("SELECT 1 FROM path p JOIN version v ON v.path = p.id"
                                  " WHERE v.first <= ?1 AND (v.until IS NULL OR v.until > ?1)"
                                  " AND v.type <> ?5 AND v.first > ?4") +
                          (path.empty() ? "" : kBelowPath) + " LIMIT 1");
  s.bind(1, set.sequence());
  if (!path.empty()) bind_below(s, 2, path);
  s.bind(4, since ? since->sequence() : std::int64_t{-1});
  s.bind(5, static_cast<int>(EntryType::kFolder));
  return s.executeStep();
}

bool Index::knows_on_disk(const std::string& path, SetId set, unsigned least, unsigned most) {
  SQLite::Statement s(
      *database_, std::string("SELECT 1 FROM version v ") +
                      // Few entries, if any, were seen on a mounted disk, and they have an index.
                      (least > 0 ? "INDEXED BY version_disk CROSS" : "") +
                      " JOIN path p ON p.id = v.path WHERE v.first <= ?1 AND (v.until IS NULL OR"
                      " v.until > ?1) AND v.flags >> ?6 BETWEEN ?4 AND ?5" +
                      (least > 0 ? " AND v.flags >= 256" : "") + (path.empty() ? "" : kBelowPath) +
                      " LIMIT 1");
  s.bind(1, set.sequence());
  if (!path.empty()) bind_blob(s, 2, path_key(path) + '\0');
  if (!path.empty()) bind_blob(s, 3, end_of_subtree(path_key(path)));
  s.bind(4, static_cast<int>(least));
  s.bind(5, static_cast<int>(most));
  s.bind(6, kDiskShift);
  return s.executeStep();
}

bool Index::knows_disks() {
  return statement("SELECT 1 FROM version WHERE flags >= 256 LIMIT 1").executeStep();
}

void Index::each_known(const std::string& path, SetId set, std::optional<SetId> since,
                       const std::function<bool(const std::string& path, unsigned disk)>& visit) {
  SQLite::Statement s(*database_,
                      std::string("SELECT p.key, v.flags >> ?5 FROM path p JOIN version v"
                                  " ON v.path = p.id WHERE v.first <= ?1"
                                  " AND (v.until IS NULL OR v.until > ?1) AND v.first > ?4") +
                          (path.empty() ? "" : kBelowPath) + " ORDER BY p.key");
  s.bind(1, set.sequence());
  if (!path.empty()) bind_below(s, 2, path);
  s.bind(4, since ? since->sequence() : std::int64_t{-1});
  s.bind(5, kDiskShift);
  while (s.executeStep()) {
    auto disk = static_cast<unsigned>(s.getColumn(1).getInt());
    if (!visit(path_from_key(column_blob(s, 0)), disk)) return;
  }
}

bool Index::holds_file(std::uint64_t inode, std::uint64_t size, FileTime mtime) {
  auto& s = statement(
      "SELECT 1 FROM version WHERE size = ? AND mtime = ? AND (inode = ? OR inode = 0)"
      " AND until IS NULL AND digest IS NOT NULL LIMIT 1");
  s.bind(1, static_cast<std::int64_t>(size));
  bind_time(s, 2, mtime);
  s.bind(3, static_cast<std::int64_t>(inode));
  return s.executeStep();
}

std::uint64_t Index::link_group_of(SetId set, std::uint64_t inode, std::uint64_t size,
                                   FileTime mtime) {
  auto& s = statement(
      "SELECT link_group FROM version WHERE link_group <> 0 AND inode = ?1 AND size = ?2"
      " AND mtime = ?3 AND first <= ?4 AND (until IS NULL OR until > ?4) LIMIT 1");
  s.bind(1, static_cast<std::int64_t>(inode));
  s.bind(2, static_cast<std::int64_t>(size));
  bind_time(s, 3, mtime);
  s.bind(4, set.sequence());
  return s.executeStep() ? static_cast<std::uint64_t>(s.getColumn(0).getInt64()) : 0;
}

std::optional<ContentLocation> Index::find_content(std::uint64_t size, const Digest& digest,
                                                   const std::vector<std::int64_t>& ancestors,
                                                   const DamagedContent& damaged) {
  if (ancestors.empty()) return std::nullopt;  // a full set: what history holds is nothing to it
  static const std::string kQuery =
      std::string("SELECT ") + kLocationColumns +
      " FROM version v"
      " JOIN location l ON l.version = v.id JOIN path p ON p.id = v.path"
      " LEFT JOIN path h ON h.id = l.holder"
      " WHERE v.content = ?1 AND v.digest = ?2 AND v.size = ?3";
  auto& s = statement(kQuery.c_str());
  s.bind(1, content_key(size, digest));
  s.bind(3, static_cast<std::int64_t>(size));
  bind_blob(s, 2, as_text(digest));
  while (s.executeStep()) {
    std::int64_t sequence = s.getColumn(0).getInt64();
    if (!std::binary_search(ancestors.begin(), ancestors.end(), sequence)) continue;
    ContentLocation location = read_location(s, 0);
    if (!damaged.reached_by(location, size)) return location;
  }
  return std::nullopt;
}

bool Index::has_size(std::uint64_t size, std::optional<FileTime> mtime) {
  auto& s = statement(
      "SELECT 1 FROM version WHERE content BETWEEN ? AND ? AND size = ?"
      " AND mtime = coalesce(?, mtime) LIMIT 1");
  auto [first, last] = content_keys(size);
  s.bind(1, first);
  s.bind(2, last);
  s.bind(3, static_cast<std::int64_t>(size));
  if (mtime) bind_time(s, 4, *mtime);
  return s.executeStep();
}

std::optional<ContentLocation> Index::location_of(std::int64_t version,
                                                  const std::vector<std::int64_t>& ancestors) {
  static const std::string kQuery =
      std::string("SELECT ") + kLocationColumns +
      " FROM location l"
      " JOIN version v ON v.id = l.version JOIN path p ON p.id = v.path"
      " LEFT JOIN path h ON h.id = l.holder WHERE l.version = ? ORDER BY l.set_sequence DESC";
  auto& s = statement(kQuery.c_str());
  s.bind(1, version);
  while (s.executeStep()) {
    std::int64_t sequence = s.getColumn(0).getInt64();
    if (std::binary_search(ancestors.begin(), ancestors.end(), sequence))
      return read_location(s, 0);
  }
  return std::nullopt;
}

namespace {

// Columns: first until ended, and those of the metadata, then the version's row id.
constexpr const char* kVersionColumns =
    "v.first, v.until, v.ended, v.type, v.size, v.mtime, v.ctime, v.inode, v.mode, v.owner,"
    " v.digest, v.extra, v.flags, v.link_group, v.id";

}  // namespace

PathVersion Index::read_version(SQLite::Statement& s) {
  PathVersion version;
  version.first = SetId::from_sequence(s.getColumn(0).getInt64());
  if (!s.getColumn(1).isNull()) version.until = SetId::from_sequence(s.getColumn(1).getInt64());
  if (!s.getColumn(2).isNull()) version.ended = static_cast<EntryType>(s.getColumn(2).getInt());
  read_metadata(s, 3, version.entry);
  version.entry.version = s.getColumn(14).getInt64();
  return version;
}

std::vector<PathVersion> Index::history_of(const std::string& path) {
  static const std::string kQuery = std::string("SELECT ") + kVersionColumns +
                                    " FROM path p JOIN version v ON v.path = p.id"
                                    " WHERE p.key = ? ORDER BY v.first";
  auto& s = statement(kQuery.c_str());
  bind_blob(s, 1, path_key(path));
  std::vector<PathVersion> versions;
  while (s.executeStep()) {
    versions.push_back(read_version(s));
    versions.back().entry.line.entry.path = path;
  }
  return versions;
}

void Index::each_version(const std::string& folder, SetId newest,
                         const std::function<void(const PathVersion&)>& visit) {
  SQLite::Statement s(*database_, std::string("SELECT ") + kVersionColumns +
                                      ", p.key FROM path p JOIN version v ON v.path = p.id"
                                      " WHERE v.first <= ?1" +
                                      (folder.empty() ? "" : kBelowPath) +
                                      " ORDER BY p.key, v.first");
  s.bind(1, newest.sequence());
  if (!folder.empty()) bind_below(s, 2, folder);
  while (s.executeStep()) {
    PathVersion version = read_version(s);
    version.entry.line.entry.path = path_from_key(column_blob(s, 15));
    visit(version);
  }
}

void Index::each_path(const std::optional<std::string>& below,
                      const std::function<void(const std::string&)>& visit) {
  // What was forgotten leaves its path until the next sweep.
  SQLite::Statement s(
      *database_,
      std::string("SELECT p.key FROM path p WHERE ?1 AND EXISTS (SELECT 1 FROM version v WHERE"
                  " v.path = p.id)") +
          (below ? kBelowPath : "") + " ORDER BY p.key");
  s.bind(1, 1);
  if (below) bind_below(s, 2, *below);
  while (s.executeStep()) visit(path_from_key(column_blob(s, 0)));
}

std::optional<std::string> Index::moved_to(const PathVersion& version, SetId at) {
  return other_path(version, at, "v.first = ?3");
}

std::optional<std::string> Index::moved_from(const PathVersion& version, SetId at) {
  return other_path(version, at, "v.until = ?3 AND v.ended = 6");  // EntryType::kGone
}

std::optional<std::string> Index::other_path(const PathVersion& version, SetId at,
                                             const char* when) {
  const LedgerEntry& line = version.entry.line;
  if (!line.digest || line.entry.size == 0) return std::nullopt;
  SQLite::Statement s(*database_,
                      std::string("SELECT p.key FROM version v JOIN path p ON p.id = v.path"
                                  " WHERE v.content = ?1 AND v.digest = ?2 AND v.size = ?5 AND ") +
                          when + " AND p.key != ?4 ORDER BY p.key LIMIT 1");
  s.bind(1, content_key(line.entry.size, *line.digest));
  s.bind(5, static_cast<std::int64_t>(line.entry.size));
  bind_blob(s, 2, as_text(*line.digest));
  s.bind(3, at.sequence());
  bind_blob(s, 4, path_key(line.entry.path));
  if (!s.executeStep()) return std::nullopt;
  return path_from_key(column_blob(s, 0));
}

void Index::each_located(
    SetId set, const std::function<void(const PathVersion&, const ContentLocation&)>& visit) {
  SQLite::Statement s(*database_,
                      std::string("SELECT ") + kVersionColumns + ", p.key, " + kLocationColumns +
                          " FROM location l JOIN version v ON v.id = l.version"
                          " JOIN path p ON p.id = v.path LEFT JOIN path h ON h.id = l.holder"
                          " WHERE l.set_sequence = ?1 OR l.ranges IS NOT NULL ORDER BY p.key");
  s.bind(1, set.sequence());
  while (s.executeStep()) {
    ContentLocation location = read_location(s, 16);
    if (!location.lies_in(set)) continue;
    PathVersion version = read_version(s);
    version.entry.line.entry.path = path_from_key(column_blob(s, 15));
    visit(version, location);
  }
}

std::optional<std::string> Index::first_of_group(SetId set, const IndexEntry& entry,
                                                 const std::string& folder) {
  SQLite::Statement s(*database_, std::string("SELECT ") + kVersionColumns +
                                      ", p.key FROM version v JOIN path p ON p.id = v.path"
                                      " WHERE v.link_group = ?1 AND v.first <= ?4"
                                      " AND (v.until IS NULL OR v.until > ?4)" +
                                      kBelowPath + " ORDER BY p.key");
  s.bind(1, static_cast<std::int64_t>(entry.line.entry.link_group));
  bind_below(s, 2, folder);
  s.bind(4, set.sequence());
  while (s.executeStep()) {
    if (same_state(read_version(s).entry, entry)) return path_from_key(column_blob(s, 15));
  }
  return std::nullopt;
}

std::optional<PathVersion> Index::random_file(std::uint64_t random) {
  auto& last = statement("SELECT coalesce(max(id), 0) FROM version");
  last.executeStep();
  auto rows = static_cast<std::uint64_t>(last.getColumn(0).getInt64());
  if (rows == 0) return std::nullopt;
  static const std::string kQuery = std::string("SELECT ") + kVersionColumns +
                                    ", p.key FROM version v JOIN path p ON p.id = v.path"
                                    " WHERE v.id >= ?1 AND v.type = ?2 ORDER BY v.id LIMIT 1";
  auto& s = statement(kQuery.c_str());
  for (std::uint64_t from : {random % rows + 1, std::uint64_t{1}}) {
    s.reset();
    s.bind(1, static_cast<std::int64_t>(from));
    s.bind(2, static_cast<int>(EntryType::kFile));
    if (!s.executeStep()) continue;  // none from there on: from the beginning
    PathVersion version = read_version(s);
    version.entry.line.entry.path = path_from_key(column_blob(s, 15));
    return version;
  }
  return std::nullopt;
}

}  // namespace kestrum
