#include "kestrum/restore/missing.h"

#include <fcntl.h>
#include <sys/stat.h>
#include <unistd.h>

#include "kestrum/access/resolve_path.h"
#include "kestrum/base/file.h"
#include "kestrum/base/text.h"
#include "kestrum/machine/index_rows.h"
#include "kestrum/select/path_order.h"
#include "kestrum/select/pattern.h"
#include "kestrum/select/source_file.h"
#include "kestrum/select/walk.h"

namespace kestrum {
namespace {

bool on_disk(const std::string& path, struct stat* st) {
  return ::lstat(("/" + path).c_str(), st) == 0;
}

void check_stop(const StopRequest& stop) {
  if (stop && stop()) throw Error(ErrorKind::kStopped, "stopped");
}

}  // namespace

MissingFiles::MissingFiles(ReadSession& session, const Job& job,
                           const std::vector<std::string>& folders, SetId newest,
                           const std::function<void(const std::string&, const std::string&)>& moved,
                           const StopRequest& stop, Observer& observer)
    : session_(session), index_(session.index()) {
  index_.database().exec(
      "CREATE TEMP TABLE IF NOT EXISTS missing(key BLOB PRIMARY KEY, version INTEGER,"
      " sequence INTEGER, size INTEGER, mtime INTEGER, digest BLOB) WITHOUT ROWID;"
      "CREATE TEMP TABLE IF NOT EXISTS newcomers(size INTEGER, mtime INTEGER, path BLOB);"
      "CREATE INDEX IF NOT EXISTS temp.missing_by ON missing(size, mtime);"
      "DELETE FROM temp.missing; DELETE FROM temp.newcomers");
  if (folders.empty()) look_below("", newest, stop);
  for (const auto& typed : folders) {
    bool anchored = false;
    std::string path = stored_form(typed, anchored);
    look_below(path, newest, stop);
  }
  drop_moved(job, moved, stop, observer);
  count_ = static_cast<std::uint64_t>(
      index_.database().execAndGet("SELECT count(*) FROM temp.missing").getInt64());
}

std::optional<SetId> MissingFiles::newest_with(std::int64_t first,
                                               std::optional<std::int64_t> until,
                                               SetId newest) const {
  const auto& sets = session_.sets();
  for (auto set = sets.rbegin(); set != sets.rend(); ++set) {
    std::int64_t sequence = set->set.sequence();
    if (newest < set->set || (until && sequence >= *until)) continue;
    if (sequence < first) break;
    return set->set;
  }
  return std::nullopt;
}

void MissingFiles::look_below(const std::string& folder, SetId newest, const StopRequest& stop) {
  SQLite::Statement s(
      index_.database(),
      std::string("SELECT p.key, v.id, v.first, v.until, v.type, v.size, v.mtime, v.digest"
                  " FROM path p JOIN version v ON v.path = p.id WHERE v.first <= ?1"
                  " AND v.type NOT IN (1, 6, 7)") +
          (folder.empty() ? "" : " AND p.key >= ?2 AND p.key < ?3") + " ORDER BY p.key, v.first");
  s.bind(1, newest.sequence());
  if (!folder.empty()) {
    bind_blob(s, 2, path_key(folder));
    bind_blob(s, 3, path_key(folder) + '\x01');
  }
  SQLite::Statement put(index_.database(),
                        "INSERT OR REPLACE INTO temp.missing VALUES(?, ?, ?, ?, ?, ?)");
  bool any = false;
  std::string looked_at;
  bool there = false;
  while (s.executeStep()) {
    check_stop(stop);
    any = true;
    std::string key = column_blob(s, 0);
    if (key != looked_at) {
      struct stat st {};
      there = on_disk(path_from_key(key), &st);
      looked_at = key;
    }
    if (there) continue;
    std::optional<std::int64_t> until;
    if (!s.getColumn(3).isNull()) until = s.getColumn(3).getInt64();
    auto set = newest_with(s.getColumn(2).getInt64(), until, newest);
    if (!set) continue;
    bind_blob(put, 1, key);  // a later version of the path takes the place of an earlier one
    put.bind(2, s.getColumn(1).getInt64());
    put.bind(3, set->sequence());
    put.bind(4, s.getColumn(5).getInt64());
    put.bind(5, s.getColumn(6).getInt64());
    bind_blob(put, 6, column_blob(s, 7));
    put.exec();
    put.reset();
  }
  if (!any && !folder.empty()) {
    throw Error(ErrorKind::kNoMatch, "/" + printable(folder) + ": no restore point holds it",
                "kestrum trace " + session_.job_name() + " " + printable(base_name(folder)))
        .about_path("/" + folder);
  }
}

// What merely has another name is not missing: a file on the disk that its restore points do not
// know under that name, of the same size and time, is read and compared.
void MissingFiles::drop_moved(
    const Job& job, const std::function<void(const std::string&, const std::string&)>& moved,
    const StopRequest& stop, Observer& observer) {
  auto& database = index_.database();
  Selection selection(job.rules, {});
  std::vector<std::string> roots;
  for (const auto& pattern : job.folders) {
    for (const auto& root : expand_pattern(pattern)) roots.push_back(root);
  }
  Walk walk(fold_overlaps(roots), selection);
  WalkEvent event;
  SQLite::Statement newcomer(database,
                             "INSERT INTO temp.newcomers SELECT ?1, ?2, ?3 WHERE EXISTS"
                             " (SELECT 1 FROM temp.missing WHERE size = ?1 AND mtime = ?2)");
  std::uint64_t seen = 0;
  while (walk.next(event)) {
    check_stop(stop);
    if (event.kind != WalkEvent::Kind::kEntry || !S_ISREG(event.st.st_mode)) continue;
    observer.progress({"looking for moved files", ++seen, 0, 0, 0, "/" + event.path});
    newcomer.bind(1, static_cast<std::int64_t>(event.st.st_size));
    newcomer.bind(2, to_nanos(event.st.st_mtim));
    bind_blob(newcomer, 3, event.path);
    newcomer.exec();
    newcomer.reset();
  }
  std::vector<std::string> there;
  SQLite::Statement pairs(
      database,
      "SELECT DISTINCT m.key, m.digest, n.path FROM temp.missing m JOIN temp.newcomers n"
      " ON n.size = m.size AND n.mtime = m.mtime WHERE m.size > 0 AND m.digest IS NOT NULL"
      " ORDER BY m.key");
  while (pairs.executeStep()) {
    check_stop(stop);
    std::string key = column_blob(pairs, 0), path = column_blob(pairs, 2);
    if (!there.empty() && there.back() == key) continue;
    Fd fd(::open(("/" + path).c_str(), O_RDONLY | O_NOFOLLOW | O_NONBLOCK | O_CLOEXEC));
    auto digest = fd ? digest_of_file(fd.get(), stop) : std::nullopt;
    if (!digest || as_text(*digest) != column_blob(pairs, 1)) continue;
    there.push_back(key);
    if (moved) moved("/" + path_from_key(key), "/" + path);
  }
  SQLite::Statement drop(database, "DELETE FROM temp.missing WHERE key = ?");
  for (const auto& key : there) {
    bind_blob(drop, 1, key);
    drop.exec();
    drop.reset();
  }
}

std::vector<SetId> MissingFiles::sets() {
  std::vector<SetId> sets;
  SQLite::Statement s(index_.database(),
                      "SELECT DISTINCT sequence FROM temp.missing ORDER BY sequence DESC");
  while (s.executeStep()) sets.push_back(SetId::from_sequence(s.getColumn(0).getInt64()));
  return sets;
}

void MissingFiles::fill(RestoreSelection& choice) {
  SQLite::Statement s(index_.database(),
                      "SELECT key, version FROM temp.missing WHERE sequence = ?");
  s.bind(1, choice.set().sequence());
  while (s.executeStep()) {
    choice.add_version(path_from_key(column_blob(s, 0)), s.getColumn(1).getInt64());
  }
}

}  // namespace kestrum
