#include "kestrum/inspect/compare.h"

#include <fcntl.h>

#include <set>

#include "kestrum/backup/run_plan.h"
#include "kestrum/backup/tree_compare.h"
#include "kestrum/machine/index_rows.h"
#include "kestrum/machine/own_folders.h"
#include "kestrum/select/path_order.h"
#include "kestrum/select/source_file.h"
#include "kestrum/select/walk.h"

namespace kestrum {
namespace {

// What differs, kept in a table until the moves are known.
class Findings {
 public:
  explicit Findings(Index& index) : database_(index.database()) {
    database_.exec(
        "CREATE TEMP TABLE IF NOT EXISTS differing(what INTEGER, key BLOB, before INTEGER, after "
        "INTEGER,"
        " digest BLOB, source BLOB, PRIMARY KEY(what, key)) WITHOUT ROWID;"
        "CREATE INDEX IF NOT EXISTS temp.differing_by ON differing(what, before);"
        "DELETE FROM temp.differing");
    put_ = std::make_unique<SQLite::Statement>(
        database_, "INSERT OR REPLACE INTO temp.differing VALUES(?, ?, ?, ?, ?, NULL)");
  }

  void add(Difference what, const std::string& path, std::uint64_t before, std::uint64_t after,
           const std::optional<Digest>& digest) {
    put_->bind(1, static_cast<int>(what));
    bind_blob(*put_, 2, path_key(path));
    put_->bind(3, static_cast<std::int64_t>(before));
    put_->bind(4, static_cast<std::int64_t>(after));
    if (digest) {
      bind_blob(*put_, 5, as_text(*digest));
    } else {
      put_->bind(5);
    }
    put_->exec();
    put_->reset();
  }

  // New content that a path that is gone had: it moved. `digest_of` reads what has no digest yet.
  void find_moves(const std::function<std::optional<Digest>(const std::string&)>& digest_of) {
    SQLite::Statement fresh(database_,
                            "SELECT key, after, digest FROM temp.differing d WHERE what = 0"
                            " AND after > 0 AND EXISTS (SELECT 1 FROM temp.differing g WHERE"
                            " g.what = 3 AND g.before = d.after) ORDER BY key");
    std::vector<std::pair<std::string, std::string>> moves;
    std::set<std::string> used;
    while (fresh.executeStep()) {
      std::string key = column_blob(fresh, 0), digest = column_blob(fresh, 2);
      if (digest.empty()) {
        auto read = digest_of(path_from_key(key));
        if (!read) continue;
        digest = as_text(*read);
      }
      SQLite::Statement gone(database_,
                             "SELECT key FROM temp.differing WHERE what = 3 AND before = ?"
                             " AND digest = ? ORDER BY key");
      gone.bind(1, fresh.getColumn(1).getInt64());
      bind_blob(gone, 2, digest);
      while (gone.executeStep()) {
        std::string source = column_blob(gone, 0);
        if (!used.insert(source).second) continue;
        moves.emplace_back(key, source);
        break;
      }
    }
    for (const auto& [key, source] : moves) {
      SQLite::Statement change(
          database_, "UPDATE temp.differing SET what = 2, source = ? WHERE what = 0 AND key = ?");
      bind_blob(change, 1, source);
      bind_blob(change, 2, key);
      change.exec();
      SQLite::Statement drop(database_, "DELETE FROM temp.differing WHERE what = 3 AND key = ?");
      bind_blob(drop, 1, source);
      drop.exec();
    }
  }

  void tell(CompareTotals& totals, const std::function<void(const Differing&)>& visit) {
    SQLite::Statement s(database_,
                        "SELECT what, key, before, after, source FROM temp.differing"
                        " ORDER BY what, key");
    while (s.executeStep()) {
      Differing item;
      item.what = static_cast<Difference>(s.getColumn(0).getInt());
      item.path = "/" + path_from_key(column_blob(s, 1));
      item.before = static_cast<std::uint64_t>(s.getColumn(2).getInt64());
      item.after = static_cast<std::uint64_t>(s.getColumn(3).getInt64());
      if (!s.getColumn(4).isNull()) item.moved_from = "/" + path_from_key(column_blob(s, 4));
      auto slot = static_cast<std::size_t>(item.what);
      ++totals.files[slot];
      totals.bytes[slot] += item.what == Difference::kGone ? item.before : item.after;
      visit(item);
    }
  }

 private:
  SQLite::Database& database_;
  std::unique_ptr<SQLite::Statement> put_;
};

bool same_content(const IndexEntry& a, const IndexEntry& b) {
  const Entry &x = a.line.entry, &y = b.line.entry;
  auto kind = [](EntryType type) { return type == EntryType::kHardlink ? EntryType::kFile : type; };
  if (kind(x.type) != kind(y.type)) return false;
  if (x.type == EntryType::kFile && y.type == EntryType::kFile) {
    return x.size == y.size && a.line.digest == b.line.digest;
  }
  if (x.type == EntryType::kDevice) {
    return x.device_major == y.device_major && x.device_minor == y.device_minor;
  }
  return x.type != y.type || x.target == y.target;
}

bool is_folder_entry(const IndexEntry& entry) {
  return entry.line.entry.type == EntryType::kFolder;
}

// The disk against a restore point.
class NowComparison {
 public:
  NowComparison(ReadSession& session, SetId from, const std::string& below, const StopRequest& stop,
                Observer& observer, Findings& findings, CompareTotals& totals)
      : index_(session.index()),
        from_(from),
        below_(below),
        stop_(stop),
        observer_(observer),
        findings_(findings),
        totals_(totals) {}

  void run(const Roots& roots, const Selection& selection, Nanos now) {
    Listings listings(roots.absent);
    Walk walk(roots.present, selection);
    auto cursor = index_.state_at(from_);
    IndexEntry old;
    bool have_old = cursor.next(old);
    auto unseen = [&] {
      Listing above = listings.above(old.line.entry.path);
      bool gone = above != Listing::kUnknown && above != Listing::kLeftOut;
      if (gone && wanted(old.line.entry.path)) add_gone(old);
    };
    WalkEvent event;
    std::uint64_t seen = 0;
    while (walk.next(event)) {
      if (stop_ && stop_()) throw Error(ErrorKind::kStopped, "stopped");
      observer_.progress({"comparing", ++seen, 0, 0, 0, "/" + event.path});
      while (have_old && compare_paths(old.line.entry.path, event.path) < 0) {
        unseen();
        have_old = cursor.next(old);
      }
      bool matches = have_old && old.line.entry.path == event.path;
      if (event.kind == WalkEvent::Kind::kEntry) {
        entry(walk, event, matches ? &old : nullptr, listings, selection, now);
      } else if (event.kind == WalkEvent::Kind::kLeftOut) {
        listings.enter(event.path, Listing::kLeftOut);
      } else if (event.error == ENOENT && !event.is_root) {
        if (matches) unseen();
      } else {
        listings.enter(event.path, Listing::kUnknown);
      }
      if (matches) have_old = cursor.next(old);
    }
    for (; have_old; have_old = cursor.next(old)) unseen();
  }

 private:
  bool wanted(const std::string& path) const { return below_.empty() || is_within(path, below_); }

  void add_gone(const IndexEntry& old) {
    if (is_folder_entry(old)) return;
    findings_.add(Difference::kGone, old.line.entry.path, old.line.entry.size, 0, old.line.digest);
  }

  void entry(Walk& walk, const WalkEvent& event, const IndexEntry* old, Listings& listings,
             const Selection& selection, Nanos now) {
    if (S_ISDIR(event.st.st_mode)) {
      bool was_mount = old != nullptr && is_folder_entry(*old) && old->line.mount;
      bool unknown = (was_mount && !event.mount && event.empty) || event.listing_error != 0;
      listings.enter(event.path, unknown                   ? Listing::kUnknown
                                 : event.contents_left_out ? Listing::kLeftOut
                                                           : Listing::kComplete);
      if (old != nullptr && !is_folder_entry(*old) && wanted(event.path)) add_gone(*old);
      return;
    }
    listings.enter(event.path, Listing::kNotAFolder);
    if (!wanted(event.path)) return;
    auto size = S_ISREG(event.st.st_mode) ? static_cast<std::uint64_t>(event.st.st_size) : 0;
    if (old == nullptr || is_folder_entry(*old)) {
      if (S_ISREG(event.st.st_mode) && selection.too_old(to_nanos(event.st.st_mtim), now)) return;
      return findings_.add(Difference::kNew, event.path, 0, size, std::nullopt);
    }
    if (same(walk, event, *old)) {
      ++totals_.same;
    } else {
      findings_.add(Difference::kChanged, event.path, old->line.entry.size, size, std::nullopt);
    }
  }

  bool same(Walk& walk, const WalkEvent& event, const IndexEntry& old) {
    IndexEntry file = old;
    if (old.line.entry.type == EntryType::kHardlink) {
      if (auto target = index_.find(from_, old.line.entry.target)) file = *target;
    }
    const Entry& e = file.line.entry;
    if (S_ISLNK(event.st.st_mode)) {
      std::string target;
      return e.type == EntryType::kLink && walk.read_link(target) && target == e.target;
    }
    if (!S_ISREG(event.st.st_mode)) {
      return e.type == (S_ISFIFO(event.st.st_mode) ? EntryType::kFifo : EntryType::kDevice);
    }
    if (e.type != EntryType::kFile || e.size != static_cast<std::uint64_t>(event.st.st_size)) {
      return false;
    }
    if (!file.unsure && e.mtime == to_nanos(event.st.st_mtim) &&
        e.ctime == to_nanos(event.st.st_ctim)) {
      return true;
    }
    Fd fd = walk.open_file();
    return fd && digest_of_file(fd.get(), stop_) == file.line.digest;
  }

  Index& index_;
  SetId from_;
  const std::string& below_;
  const StopRequest& stop_;
  Observer& observer_;
  Findings& findings_;
  CompareTotals& totals_;
};

}  // namespace

const char* difference_name(Difference difference) {
  static constexpr const char* kNames[] = {"new", "changed", "moved", "gone"};
  return kNames[static_cast<std::size_t>(difference)];
}

CompareTotals compare_sets(ReadSession& session, SetId from, SetId to, const std::string& below,
                           const StopRequest& stop,
                           const std::function<void(const Differing&)>& visit) {
  CompareTotals totals;
  Index& index = session.index();
  Findings findings(index);
  std::optional<std::string> narrow;
  if (!below.empty()) narrow = below;
  auto before = index.state_at(from, narrow), after = index.state_at(to, narrow);
  IndexEntry a, b;
  bool have_a = before.next(a), have_b = after.next(b);
  while (have_a || have_b) {
    if (stop && stop()) throw Error(ErrorKind::kStopped, "stopped");
    int order = !have_a ? 1 : !have_b ? -1 : compare_paths(a.line.entry.path, b.line.entry.path);
    const Entry &x = a.line.entry, &y = b.line.entry;
    bool was = order <= 0 && !is_folder_entry(a), is = order >= 0 && !is_folder_entry(b);
    if (was && is) {
      if (same_content(a, b)) {
        ++totals.same;
      } else {
        findings.add(Difference::kChanged, y.path, x.size, y.size, std::nullopt);
      }
    } else if (was) {
      findings.add(Difference::kGone, x.path, x.size, 0, a.line.digest);
    } else if (is) {
      findings.add(Difference::kNew, y.path, 0, y.size, b.line.digest);
    }
    if (order <= 0) have_a = before.next(a);
    if (order >= 0) have_b = after.next(b);
  }
  findings.find_moves([](const std::string&) { return std::nullopt; });
  findings.tell(totals, visit);
  return totals;
}

CompareTotals compare_with_now(const MachineState& machine, ReadSession& session, const Job& job,
                               SetId from, const std::string& below, Nanos now,
                               const StopRequest& stop, Observer& observer,
                               const std::function<void(const Differing&)>& visit) {
  CompareTotals totals;
  Findings findings(session.index());
  PlanInput input;
  input.now = now;
  RunPlan plan = plan_run(job, session.index(), std::move(input));
  std::string shelf = session.shelf() == nullptr ? "" : session.shelf()->path;
  Selection selection(job.rules, own_folders(machine, shelf));
  NowComparison(session, from, below, stop, observer, findings, totals)
      .run(plan.roots, selection, now);
  findings.find_moves([&](const std::string& path) -> std::optional<Digest> {
    Fd fd(::open(("/" + path).c_str(), O_RDONLY | O_NOFOLLOW | O_NONBLOCK | O_CLOEXEC));
    return fd ? digest_of_file(fd.get(), stop) : std::nullopt;
  });
  findings.tell(totals, visit);
  return totals;
}

}  // namespace kestrum
