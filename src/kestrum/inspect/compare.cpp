#include "kestrum/inspect/compare.h"

#include "kestrum/machine/own_folders.h"
#include "kestrum/plan/change_detector.h"
#include "kestrum/plan/run_plan.h"
#include "kestrum/plan/tree_diff.h"
#include "kestrum/plan/walk_ahead.h"
#include "kestrum/select/path_order.h"
#include "kestrum/select/source_file.h"
#include "kestrum/select/source_tree.h"
#include "kestrum/select/walk.h"

namespace kestrum {
namespace {

bool same_content(const IndexEntry& a, const IndexEntry& b) {
  const Entry &x = a.line.entry, &y = b.line.entry;
  if (x.type != y.type) return false;
  if (x.type == EntryType::kFile) return x.size == y.size && a.line.digest == b.line.digest;
  if (x.type == EntryType::kDevice) {
    return x.device_major == y.device_major && x.device_minor == y.device_minor;
  }
  return x.target == y.target;
}

bool is_folder_entry(const IndexEntry& entry) {
  return entry.line.entry.type == EntryType::kFolder;
}

// The disk against a restore point.
class NowComparison {
 public:
  NowComparison(Index& index, const CompareScope& scope, const Selection& selection, Nanos now,
                Observer& observer)
      : scope_(scope), selection_(selection), now_(now), observer_(observer), findings_(index) {}

  // Returns how many files are the same.
  std::uint64_t run(Index& index, const Roots& roots) {
    Walk walk(roots.present, selection_);
    WalkAhead found(walk, {});
    TreeDiff tree([&](WalkEvent& event) { return found.next(event); }, roots.lost,
                  known_at(index, scope_.from));
    PathDiff diff;
    std::uint64_t seen = 0;
    while (tree.next(diff)) {
      if (scope_.stop && scope_.stop()) throw Error(ErrorKind::kStopped, "stopped");
      observer_.progress({"comparing", ++seen, 0, 0, 0, "/" + diff.path()});
      if (!wanted(diff.path())) continue;
      switch (diff.state) {
        case PathState::kThere:
          there(*diff.event, diff.old);
          break;
        case PathState::kGone:
          add_gone(*diff.old);
          break;
        case PathState::kAbsent:  // nobody can say
        case PathState::kLeftOut:
          break;
      }
    }
    return same_;
  }
  DifferingPaths& findings() { return findings_; }

 private:
  bool wanted(const std::string& path) const {
    return scope_.below.empty() || is_within(path, scope_.below);
  }

  void add_gone(const IndexEntry& old) {
    if (is_folder_entry(old)) return;
    findings_.add({Difference::kGone, old.line.entry.path, "", old.line.entry.size, 0},
                  old.line.digest);
  }

  void there(const WalkEvent& event, const IndexEntry* old) {
    if (S_ISDIR(event.st.st_mode)) {
      if (old != nullptr) add_gone(*old);
      return;
    }
    auto size = S_ISREG(event.st.st_mode) ? static_cast<std::uint64_t>(event.st.st_size) : 0;
    if (old == nullptr || is_folder_entry(*old)) {
      if (S_ISREG(event.st.st_mode) && selection_.too_old(FileTime(event.st.st_mtim), now_)) return;
      return findings_.add({Difference::kNew, event.path, "", 0, size}, std::nullopt);
    }
    if (same(event, *old)) {
      ++same_;
    } else {
      findings_.add({Difference::kChanged, event.path, "", old->line.entry.size, size},
                    std::nullopt);
    }
  }

  bool same(const WalkEvent& event, const IndexEntry& old) {
    const Entry& e = old.line.entry;
    bool as_last_read = S_ISREG(event.st.st_mode) && e.type == EntryType::kFile && !old.unsure &&
                        e.size == static_cast<std::uint64_t>(event.st.st_size) &&
                        e.mtime == FileTime(event.st.st_mtim) &&
                        e.ctime == FileTime(event.st.st_ctim);
    return as_last_read || has_content_of(event, old, scope_.stop);
  }

  const CompareScope& scope_;
  const Selection& selection_;
  Nanos now_;
  Observer& observer_;
  DifferingPaths findings_;
  std::uint64_t same_ = 0;
};

void tell(DifferingPaths& findings, CompareTotals& totals,
          const std::function<void(const DifferingPath&)>& visit) {
  findings.each([&](const DifferingPath& found) {
    auto slot = static_cast<std::size_t>(found.what);
    ++totals.files[slot];
    totals.bytes[slot] += found.what == Difference::kGone ? found.before : found.after;
    DifferingPath shown = found;
    shown.path = "/" + found.path;
    if (!found.moved_from.empty()) shown.moved_from = "/" + found.moved_from;
    visit(shown);
  });
}

}  // namespace

const char* difference_name(Difference difference) {
  static constexpr const char* kNames[] = {"new", "changed", "moved", "gone"};
  return kNames[static_cast<std::size_t>(difference)];
}

CompareTotals compare_sets(ReadSession& session, const CompareScope& scope, SetId to,
                           const std::function<void(const DifferingPath&)>& visit) {
  CompareTotals totals;
  Index& index = session.index();
  DifferingPaths findings(index);
  std::optional<std::string> narrow;
  if (!scope.below.empty()) narrow = scope.below;
  auto before = index.state_at(scope.from, narrow), after = index.state_at(to, narrow);
  IndexEntry a, b;
  bool have_a = before.next(a), have_b = after.next(b);
  while (have_a || have_b) {
    if (scope.stop && scope.stop()) throw Error(ErrorKind::kStopped, "stopped");
    int order = !have_a ? 1 : !have_b ? -1 : compare_paths(a.line.entry.path, b.line.entry.path);
    const Entry &x = a.line.entry, &y = b.line.entry;
    bool was = order <= 0 && !is_folder_entry(a), is = order >= 0 && !is_folder_entry(b);
    if (was && is) {
      if (same_content(a, b)) {
        ++totals.same;
      } else {
        findings.add({Difference::kChanged, y.path, "", x.size, y.size}, std::nullopt);
      }
    } else if (was) {
      findings.add({Difference::kGone, x.path, "", x.size, 0}, a.line.digest);
    } else if (is) {
      findings.add({Difference::kNew, y.path, "", 0, y.size}, b.line.digest);
    }
    if (order <= 0) have_a = before.next(a);
    if (order >= 0) have_b = after.next(b);
  }
  findings.find_moves([](const std::string&) { return std::nullopt; });
  tell(findings, totals, visit);
  return totals;
}

CompareTotals compare_with_now(const DiskNow& disk, ReadSession& session, const CompareScope& scope,
                               Observer& observer,
                               const std::function<void(const DifferingPath&)>& visit) {
  PlanInput input;
  input.now = disk.now;
  RunPlan plan = plan_run(disk.job, session.index(), std::move(input));
  std::string shelf = session.shelf() == nullptr ? "" : session.shelf()->path;
  Selection selection(disk.job.rules, own_folders(disk.machine, shelf));
  NowComparison comparison(session.index(), scope, selection, disk.now, observer);
  SourceTree source(plan.roots.present);
  CompareTotals totals;
  totals.same = comparison.run(session.index(), plan.roots);
  comparison.findings().find_moves([&](const std::string& path) -> std::optional<Digest> {
    Fd fd = source.open_file(path);
    return fd ? digest_of_file(fd.get(), scope.stop) : std::nullopt;
  });
  tell(comparison.findings(), totals, visit);
  return totals;
}

}  // namespace kestrum
