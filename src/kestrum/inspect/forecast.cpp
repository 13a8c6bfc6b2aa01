#include "kestrum/inspect/forecast.h"

#include <fmt/format.h>

#include <algorithm>
#include <set>

#include "kestrum/access/rebuild_index.h"
#include "kestrum/backup/continuation.h"
#include "kestrum/backup/prune.h"
#include "kestrum/backup/size_estimate.h"
#include "kestrum/backup/tree_compare.h"
#include "kestrum/machine/job_lock.h"
#include "kestrum/machine/own_folders.h"
#include "kestrum/machine/run_records.h"
#include "kestrum/select/path_order.h"
#include "kestrum/select/walk.h"

namespace kestrum {
namespace {

// A ledger line and what else an entry costs, compressed.
constexpr std::uint64_t kEntryCost = 90;
constexpr std::uint64_t kSetCost = 2000;
constexpr std::uint64_t kBlock = 512;  // of st_blocks
// The past tells of the next run if it holds at least this share of what is to be copied.
constexpr std::uint64_t kTellingShare = 10;

std::uint64_t hash_of(std::uint64_t inode, std::uint64_t size, Nanos mtime) {
  std::uint64_t h = inode * 0x9e3779b97f4a7c15 ^ size * 0xc2b2ae3d27d4eb4f ^
                    static_cast<std::uint64_t>(mtime) * 0x165667b19e3779f9;
  return h ^ h >> 29;
}

// The walk merged with the state of the base, as SetBuilder does, but nothing is read or written.
class Comparison {
 public:
  Comparison(const RunPlan& plan, const Selection& selection, Index& index,
             const ForecastOptions& options, Nanos now, Observer& observer, Forecast& result)
      : plan_(plan),
        selection_(selection),
        index_(index),
        options_(options),
        now_(now),
        observer_(observer),
        result_(result),
        walk_(plan.roots.present, selection),
        listings_(plan.roots.absent) {}

  SizeEstimate& sizes() { return sizes_; }

  void run() {
    std::optional<Index::Cursor> known;
    IndexEntry old;
    bool have_old = false;
    if (plan_.compared_with) {
      known.emplace(index_.state_at(*plan_.compared_with));
      have_old = known->next(old);
    }
    WalkEvent event;
    while (walk_.next(event)) {
      check_stop();
      while (have_old && compare_paths(old.line.entry.path, event.path) < 0) {
        unseen(old);
        have_old = known->next(old);
      }
      if (event.is_root) enter_root("/" + event.path);
      bool matches = have_old && old.line.entry.path == event.path;
      seen(event, matches ? &old : nullptr);
      if (matches) have_old = known->next(old);
      observer_.progress(
          {"looking", result_.files.seen, 0, result_.bytes.seen, 0, "/" + event.path});
    }
    while (have_old) {
      check_stop();
      unseen(old);
      have_old = known->next(old);
    }
    settle_moves();
    for (const FolderForecast& folder : result_.folders) {
      bool told = std::any_of(result_.warnings.begin(), result_.warnings.end(),
                              [&](const Warning& w) { return w.path == folder.folder; });
      if (folder.files.seen == 0 && !told) {
        result_.warnings.push_back(
            {folder.folder,
             folder.files.left_out + folders_left_out_[folder.folder] > 0
                 ? "nothing is copied from this folder: the rules leave out all of it"
                 : "nothing is copied from this folder: it holds no files"});
      }
    }
  }

 private:
  void check_stop() const {
    if (options_.stop && options_.stop()) throw Error(ErrorKind::kStopped, "stopped");
  }

  void enter_root(const std::string& root) { result_.folders.push_back({root, {}, {}}); }

  FolderForecast* folder_of(const std::string& path) {
    for (auto it = result_.folders.rbegin(); it != result_.folders.rend(); ++it) {
      if (is_within("/" + path, it->folder)) return &*it;
    }
    return nullptr;
  }

  void tell(FileFate fate, const std::string& path, std::uint64_t size, Rule rule = Rule::kTaken) {
    FolderForecast* folder = folder_of(path);
    for (FileCounts* f : {&result_.files, folder != nullptr ? &folder->files : nullptr}) {
      if (f == nullptr) continue;
      f->copied += fate == FileFate::kNew || fate == FileFate::kChanged;
      f->moved += fate == FileFate::kMoved;
      f->same += fate == FileFate::kSame;
      f->gone += fate == FileFate::kGone;
      f->absent += fate == FileFate::kAbsent;
      f->left_out += fate == FileFate::kLeftOut;
      f->failed += fate == FileFate::kFailed;
      f->seen = f->copied + f->moved + f->same + f->failed;
    }
    bool copied = fate == FileFate::kNew || fate == FileFate::kChanged;
    bool there = copied || fate == FileFate::kMoved || fate == FileFate::kSame;
    for (ByteCounts* b : {&result_.bytes, folder != nullptr ? &folder->bytes : nullptr}) {
      if (b == nullptr) continue;
      b->copied += copied ? size : 0;
      b->seen += there ? size : 0;
    }
    if (options_.visit) options_.visit(fate, "/" + path, size, rule);
  }

  void unseen(const IndexEntry& old) {
    const Entry& e = old.line.entry;
    if (e.type == EntryType::kFolder) return;
    switch (listings_.above(e.path)) {
      case Listing::kUnknown:
        return tell(FileFate::kAbsent, e.path, e.size);
      case Listing::kLeftOut:
        return tell(FileFate::kLeftOut, e.path, e.size);
      default:
        gone_.push_back(hash_of(old.inode, e.size, e.mtime));
        tell(FileFate::kGone, e.path, e.size);
    }
  }

  void seen(const WalkEvent& event, const IndexEntry* old) {
    switch (event.kind) {
      case WalkEvent::Kind::kUnknown:
        if (event.error == ENOENT && !event.is_root) {
          if (old != nullptr) unseen(*old);
          return;
        }
        listings_.enter(event.path, Listing::kUnknown);
        warn(event.path, event.is_root && event.error == ENOENT ? "this folder is not there"
                                                                : errno_text(event.error));
        if (old != nullptr) unseen(*old);
        return;
      case WalkEvent::Kind::kLeftOut:
        return left_out(event, old);
      case WalkEvent::Kind::kEntry:
        break;
    }
    if (S_ISDIR(event.st.st_mode)) return folder(event, old);
    listings_.enter(event.path, Listing::kNotAFolder);
    if (S_ISREG(event.st.st_mode)) return file(event, old);
    bool same = old != nullptr && detector_.unchanged(event.path, event.st, *old);
    bool held = old != nullptr && plan_.next.kind != SetKind::kFull;
    tell(!held ? FileFate::kNew : same ? FileFate::kSame : FileFate::kChanged, event.path, 0);
  }

  void left_out(const WalkEvent& event, const IndexEntry* old) {
    listings_.enter(event.path, Listing::kLeftOut);
    if (event.rule == Rule::kOwn) return;
    RuleCount& count = result_.left_out[static_cast<std::size_t>(event.rule)];
    auto size = static_cast<std::uint64_t>(event.st.st_size);
    if (S_ISDIR(event.st.st_mode)) {
      ++count.folders;
      if (FolderForecast* folder = folder_of(event.path)) ++folders_left_out_[folder->folder];
      if (old != nullptr) unseen(*old);
      return;
    }
    ++count.files;
    if (S_ISREG(event.st.st_mode)) count.bytes += size;
    tell(FileFate::kLeftOut, event.path, size, event.rule);
  }

  void folder(const WalkEvent& event, const IndexEntry* old) {
    bool was_mount =
        old != nullptr && old->line.entry.type == EntryType::kFolder && old->line.mount;
    if (was_mount && !event.mount && event.empty) {
      listings_.enter(event.path, Listing::kUnknown);
      return warn(event.path, "a disk was mounted here and is not now");
    }
    if (event.listing_error != 0) {
      listings_.enter(event.path, Listing::kUnknown);
      return warn(event.path, "this folder cannot be read: " + errno_text(event.listing_error));
    }
    listings_.enter(event.path, event.contents_left_out ? Listing::kLeftOut : Listing::kComplete);
    if (event.contents_left_out) {
      ++result_.left_out[static_cast<std::size_t>(Rule::kOtherFilesystem)].folders;
    }
  }

  void file(const WalkEvent& event, const IndexEntry* old) {
    auto size = static_cast<std::uint64_t>(event.st.st_size);
    Nanos mtime = to_nanos(event.st.st_mtim);
    if (old == nullptr && selection_.too_old(mtime, now_)) {
      RuleCount& count = result_.left_out[static_cast<std::size_t>(Rule::kChangedWithin)];
      ++count.files;
      count.bytes += size;
      return tell(FileFate::kLeftOut, event.path, size, Rule::kChangedWithin);
    }
    bool full = plan_.next.kind == SetKind::kFull;
    if (event.st.st_nlink > 1 && index_.first_link(event.st.st_dev, event.st.st_ino, event.path)) {
      // Another name of a file that was counted.
      bool same = old != nullptr && !full && old->line.entry.type == EntryType::kHardlink;
      return tell(same ? FileFate::kSame : FileFate::kNew, event.path, 0);
    }
    bool was_file = old != nullptr && old->line.entry.type == EntryType::kFile;
    bool lost = was_file && !full && plan_.is_lost(index_, *old);
    if (was_file && !full && !lost) {
      IndexEntry certain = *old;
      certain.unsure =
          false;  // a run reads such a file to be certain, and mostly finds it the same
      if (detector_.unchanged(event.path, event.st, certain)) {
        return tell(FileFate::kSame, event.path, size);
      }
    }
    bool content_as_before =
        was_file && size == old->line.entry.size && mtime == old->line.entry.mtime && !old->unsure;
    if (!full && !lost && !plan_.ancestors.empty() && size > 0) {
      // Only the mode or the owner changed: the content is held.
      if (content_as_before) return tell(FileFate::kSame, event.path, size);
      if (!was_file && index_.has_size(size, mtime)) {
        moved_.push_back(hash_of(event.st.st_ino, size, mtime));
        return tell(FileFate::kMoved, event.path, size);
      }
    }
    tell(old != nullptr && !full ? FileFate::kChanged : FileFate::kNew, event.path, size);
    sizes_.add(event.path, size,
               std::min(size, static_cast<std::uint64_t>(event.st.st_blocks) * kBlock));
  }

  // What turned up under another path is not gone.
  void settle_moves() {
    std::sort(gone_.begin(), gone_.end());
    std::sort(moved_.begin(), moved_.end());
    std::vector<std::uint64_t> both;
    std::set_intersection(gone_.begin(), gone_.end(), moved_.begin(), moved_.end(),
                          std::back_inserter(both));
    result_.files.gone -= std::min<std::uint64_t>(result_.files.gone, both.size());
  }

  void warn(const std::string& path, const std::string& reason) {
    result_.warnings.push_back({"/" + path, reason});
  }

  const RunPlan& plan_;
  const Selection& selection_;
  Index& index_;
  const ForecastOptions& options_;
  Nanos now_;
  Observer& observer_;
  Forecast& result_;
  Walk walk_;
  Listings listings_;
  ChangeDetector detector_;
  SizeEstimate sizes_;
  std::map<std::string, std::uint64_t> folders_left_out_;
  std::vector<std::uint64_t> gone_, moved_;
};

// This machine's index of the job's shelf, or an empty one in memory. With several shelves the one
// that `open` is, otherwise the one seen last.
std::unique_ptr<Index> index_of(const MachineState& machine, const Job& job,
                                const std::optional<OpenShelf>& open) {
  std::string path;
  if (open && open->state) {
    path = open->state->index_path();
  } else {
    Nanos seen = -1;
    for (const ShelfState& state : machine.shelves(job.name)) {
      if (state.record.last_seen <= seen) continue;
      seen = state.record.last_seen;
      path = state.index_path();
    }
  }
  return std::make_unique<Index>(path.empty() || !path_exists(path) ? ":memory:" : path);
}

void estimate(const MachineState& machine, const Job& job, SizeEstimate& sizes, bool sample,
              Forecast& result) {
  PastRuns past = past_runs(RunRecords(machine, job.name));
  std::uint64_t entries = (result.files.copied + result.files.moved) * kEntryCost + kSetCost;
  double ratio = 1;
  std::uint64_t bytes = result.bytes.copied;
  if (past.copied > 0 && past.copied >= result.bytes.copied / kTellingShare) {
    ratio = past.ratio;
    entries = kSetCost;  // a share of what past sets stored
    result.estimated_from = "past runs of this job";
  } else if (sample && result.bytes.copied > 0) {
    ratio = sizes.ratio(job.level);
    bytes = sizes.bytes();
    result.estimated_from = "a sample of the files";
  } else {
    result.estimated_from = "nothing known";
  }
  result.bytes.stored = static_cast<std::uint64_t>(static_cast<double>(bytes) * ratio) + entries;
  result.needed = result.bytes.stored;
  if (past.seconds_a_unit > 0) {
    result.seconds = past.seconds_a_unit *
                     PastRuns::units(result.bytes.copied, result.files.copied, result.files.seen);
  }
}

}  // namespace

const char* fate_name(FileFate fate) {
  static constexpr std::array<const char*, 8> kNames = {"new",  "changed", "moved",    "same",
                                                        "gone", "absent",  "left out", "failed"};
  return kNames[static_cast<std::size_t>(fate)];
}

Forecast make_forecast(const MachineState& machine, const Job& job, const ForecastOptions& options,
                       const Clock& clock, Observer& observer) {
  Forecast result;
  JobLock lock(machine, job.name, "working out a forecast");
  std::optional<OpenShelf> open;
  try {
    open.emplace(find_shelf(machine, job, options.on_place));
    result.shelf_path = open->path;
    result.room = open->place->room();
  } catch (const Error& error) {
    if (!error.worth_waiting()) throw;
    result.away = error.message();
  }
  std::unique_ptr<Index> index = index_of(machine, job, open);
  PlanInput input;
  if (open) {
    input = plan_input(*open, *index);
    if (!index_matches(open->shelf, *index)) {
      input.must_be_full = "the index of this PC does not match the shelf";
    }
  } else {
    for (const IndexedSet& set : index->sets()) {
      input.sets.push_back({set.set, set.kind, set.based_on, set.started, true});
    }
  }
  input.wanted = options.kind;
  input.now = clock.now();
  RunPlan plan = plan_run(job, *index, std::move(input));
  result.next = plan.next;
  result.fresh_folders = plan.roots.fresh;
  Selection selection(job.rules, own_folders(machine, result.shelf_path));
  Comparison comparison(plan, selection, *index, options, clock.now(), observer, result);
  comparison.run();
  estimate(machine, job, comparison.sizes(), options.sample, result);
  if (!open) return result;
  BegunSet wanted{plan.next.kind, plan.next.based_on, "", 0, "", {}};
  wanted.packing = packing_word({job.level, open->shelf.label().recipient}, job.part_size);
  if (auto kept = likely_continuation(*open, *index, wanted)) {
    result.kept_parts = kept->parts.size();
    result.kept_bytes = kept->bytes();
    result.needed -= std::min(result.needed, result.kept_bytes);
  }
  Nanos now = clock.now();
  if (job.when_full != WhenFull::kStop) {
    // A run prunes first only if it is short of room.
    KeepInput keep = keep_input(*open, job, now, usual_interval(machine, job, now));
    keep.base_in_use = plan.next.based_on;
    if (pruning_blocked(keep)) result.no_pruning = explain_kept(keep);
    if (result.needed > result.room->free) {
      result.holds = explain_kept(keep);
      for (const Verdict& verdict : decide_keep(keep)) {
        if (verdict.goes) result.freed_before += open->shelf.find(verdict.id)->seal.bytes.stored;
      }
    }
  } else {
    result.holds = "nothing is removed by itself (\"when_full = stop\")";
    result.no_pruning = result.holds;
  }
  result.plan = job_outlook(machine, job, &*open, plan.next, result.needed, result.room->free, now);
  return result;
}

std::uint64_t expected_bytes(const MachineState& machine, const Job& job, const RunPlan& plan,
                             const Selection& selection, Index& index, Nanos now,
                             const StopRequest& stop, Observer& observer) {
  Forecast result;
  ForecastOptions options;
  options.stop = stop;
  Comparison comparison(plan, selection, index, options, now, observer, result);
  comparison.run();
  estimate(machine, job, comparison.sizes(), true, result);
  return result.needed;
}

Forecast survey(const MachineState& machine, const Job& job, Nanos now, const StopRequest& stop,
                Observer& observer) {
  Forecast result;
  Index nothing(":memory:");
  ForecastOptions options;
  options.stop = stop;
  PlanInput input;
  input.now = now;
  RunPlan plan = plan_run(job, nothing, std::move(input));
  Selection selection(job.rules, own_folders(machine, ""));
  Comparison(plan, selection, nothing, options, now, observer, result).run();
  return result;
}

}  // namespace kestrum
