#include "kestrum/plan/expected_changes.h"

#include <algorithm>
#include <iterator>

#include "kestrum/base/error.h"
#include "kestrum/base/file.h"
#include "kestrum/machine/run_records.h"
#include "kestrum/plan/change_detector.h"
#include "kestrum/plan/change_tally.h"
#include "kestrum/plan/changed_share.h"
#include "kestrum/plan/new_file_rules.h"
#include "kestrum/plan/tree_diff.h"
#include "kestrum/plan/walk_ahead.h"

namespace kestrum {
namespace {

// A ledger line and what else an entry costs, compressed.
constexpr std::uint64_t kEntryCost = 90;
constexpr std::uint64_t kSetCost = 2000;
constexpr std::uint64_t kBlock = 512;  // of st_blocks
constexpr double kPastError = 0.3;     // of a ratio that past runs had

std::uint64_t hash_of(std::uint64_t inode, std::uint64_t size, FileTime mtime) {
  std::uint64_t h =
      inode * 0x9e3779b97f4a7c15 ^ size * 0xc2b2ae3d27d4eb4f ^
      static_cast<std::uint64_t>(mtime.seconds * kSecond + mtime.nanos) * 0x165667b19e3779f9;
  return h ^ h >> 29;
}

// Gives each path of the diff its fate.
class Expectation {
 public:
  Expectation(const RunPlan& plan, const Selection& selection, Index& index,
              const ExpectOptions& options, Observer& observer)
      : plan_(plan),
        index_(index),
        options_(options),
        observer_(observer),
        new_files_(selection, index, plan, options.now),
        walk_(plan.roots.present, selection),
        tally_(index, plan.compared_with, plan.roots.lost.released),
        noise_(index, NoiseCount::Source::kExpected, plan.compared_with) {
    result_.sizes = result_.fresh_sizes = SizeEstimate(plan.roots.present);
  }

  ExpectedChanges run() {
    const std::optional<SetId>& base = plan_.compared_with;
    for (const auto& root : plan_.roots.lost.absent) {
      result_.warnings.push_back({root, kFolderIsAway});
    }
    WalkAhead found(walk_, {});
    TreeDiff tree([&](WalkEvent& event) { return found.next(event); }, plan_.roots.lost,
                  base ? known_at(index_, *base) : nothing_known());
    PathDiff diff;
    while (tree.next(diff)) {
      if (diff.old != nullptr) tally_.known(*diff.old);
      if (options_.stop && options_.stop()) throw Error(ErrorKind::kStopped, "stopped");
      if (diff.event != nullptr && diff.event->is_root) {
        result_.folders.push_back({"/" + diff.path(), {}, {}});
      }
      take(diff);
      observer_.progress(
          {"looking", result_.files.seen, 0, result_.bytes.seen, 0, "/" + diff.path()});
    }
    subtract_moves();
    for (const FolderChanges& folder : result_.folders) {
      if (folder.files.seen == 0 && folder.files.gone > 0) tally_.emptied(folder.folder);
    }
    if (options_.limits) {
      result_.suspect_why =
          suspicion_of(tally_.counts(), plan_, index_, noise_, *options_.limits).value_or("");
    }
    warn_of_silent_folders();
    return std::move(result_);
  }

 private:
  void take(const PathDiff& diff) {
    if (!diff.problem.empty()) {
      result_.warnings.push_back({"/" + diff.problem_path(), diff.problem});
    }
    const Entry* old = is_no_folder(diff.old) ? &diff.old->line.entry : nullptr;
    switch (diff.state) {
      case PathState::kThere:
        return there(*diff.event, diff.old);
      case PathState::kAbsent:
        if (old != nullptr) count(FileFate::kAbsent, old->path, old->size);
        return;
      case PathState::kLeftOut:
        if (diff.event != nullptr) return left_out(*diff.event, diff.old);
        if (old != nullptr) count(FileFate::kLeftOut, old->path, old->size);
        return;
      case PathState::kGone:
        if (old == nullptr) return;
        gone_.push_back(hash_of(diff.old->inode, old->size, old->mtime));
        tally_.gone(*diff.old);
        noise_.expect(old->path, EntryType::kGone, false);
        return count(FileFate::kGone, old->path, old->size);
    }
  }

  static bool is_no_folder(const IndexEntry* old) {
    return old != nullptr && old->line.entry.type != EntryType::kFolder;
  }

  FolderChanges* folder_of(const std::string& path) {
    for (auto it = result_.folders.rbegin(); it != result_.folders.rend(); ++it) {
      if (is_within("/" + path, it->folder)) return &*it;
    }
    return nullptr;
  }

  // `new_bytes`: what of the size would be copied, where that is less.
  void count(FileFate fate, const std::string& path, std::uint64_t size, Rule rule = Rule::kTaken,
             std::uint64_t new_bytes = UINT64_MAX) {
    FolderChanges* folder = folder_of(path);
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
      b->copied += copied ? std::min(size, new_bytes) : 0;
      b->seen += there ? size : 0;
    }
    if (options_.visit) options_.visit(fate, "/" + path, size, rule);
  }

  void left_out(const WalkEvent& event, const IndexEntry* known) {
    if (event.rule == Rule::kOwn) return;
    if (new_files_.holds(event)) return there(event, known);
    const Entry* old = is_no_folder(known) ? &known->line.entry : nullptr;
    result_.left_out[static_cast<std::size_t>(event.rule)].add(event.st);
    if (S_ISDIR(event.st.st_mode)) {
      if (FolderChanges* folder = folder_of(event.path)) ++folders_left_out_[folder->folder];
      if (old != nullptr) count(FileFate::kLeftOut, old->path, old->size);
      return;
    }
    auto size = static_cast<std::uint64_t>(event.st.st_size);
    count(FileFate::kLeftOut, event.path, size, event.rule);
  }

  void there(const WalkEvent& event, const IndexEntry* old) {
    if (S_ISDIR(event.st.st_mode)) {
      if (event.contents_left_out) {
        ++result_.left_out[static_cast<std::size_t>(Rule::kOtherFilesystem)].folders;
      }
      return;
    }
    if (S_ISREG(event.st.st_mode)) return file(event, old);
    bool same = old != nullptr && detector_.unchanged(event, *old);
    bool known = old != nullptr && plan_.next.kind != SetKind::kFull;
    count(!known ? FileFate::kNew : same ? FileFate::kSame : FileFate::kChanged, event.path, 0);
  }

  void file(const WalkEvent& event, const IndexEntry* old) {
    auto size = static_cast<std::uint64_t>(event.st.st_size);
    FileTime mtime(event.st.st_mtim);
    if (new_files_.refuses(event, old) == Rule::kChangedWithin) {
      result_.left_out[static_cast<std::size_t>(Rule::kChangedWithin)].add(event.st);
      return count(FileFate::kLeftOut, event.path, size, Rule::kChangedWithin);
    }
    note_recent(mtime.moment(), size);
    bool full = plan_.next.kind == SetKind::kFull;
    if (event.st.st_nlink > 1 &&
        index_.first_link(event.st.st_dev, event.st.st_ino, {event.path, 0})) {
      // Another name of a file that was counted.
      bool same = old != nullptr && !full && detector_.unchanged(event, *old);
      return count(same ? FileFate::kSame : FileFate::kNew, event.path, 0);
    }
    bool was_file = old != nullptr && old->line.entry.type == EntryType::kFile;
    bool lost = was_file && !full && plan_.is_lost(index_, *old);
    if (was_file && !full && !lost) {
      IndexEntry certain = *old;
      certain.unsure =
          false;  // a run reads such a file to be certain, and mostly finds it the same
      if (detector_.unchanged(event, certain)) {
        return count(FileFate::kSame, event.path, size);
      }
    }
    bool content_as_before =
        was_file && size == old->line.entry.size && mtime == old->line.entry.mtime && !old->unsure;
    if (!content_as_before) weigh(event, was_file ? old : nullptr);
    if (!full && !lost && !plan_.ancestors.empty() && size > 0) {
      // Only the mode or the owner changed: the content is held.
      if (content_as_before) return count(FileFate::kSame, event.path, size);
      if (!was_file && index_.has_size(size, mtime)) {
        moved_.push_back(hash_of(event.st.st_ino, size, mtime));
        return count(FileFate::kMoved, event.path, size);
      }
    }
    auto data = std::min(size, static_cast<std::uint64_t>(event.st.st_blocks) * kBlock);
    std::uint64_t copied = size;
    if (was_file && !full && plan_.is_stretched(size)) {
      data = std::min(data, copied = new_of(event, size, *old));
    }
    count(old != nullptr && !full ? FileFate::kChanged : FileFate::kNew, event.path, size,
          Rule::kTaken, copied);
    result_.sizes.add(event.path, size, data);
    // Where nothing was seen before, what was changed of late stands for what is new.
    bool fresh = plan_.compared_with ? !was_file : is_recent(mtime.moment());
    if (!fresh) return;
    result_.fresh_bytes += size;
    result_.fresh_sizes.add(event.path, size, data);
  }

  std::uint64_t new_of(const WalkEvent& event, std::uint64_t size, const IndexEntry& old) {
    Fd fd = event.at.open_file();
    if (!fd) return size;
    return new_bytes(fd.get(), size, old, plan_, index_, [this] {
      if (options_.stop && options_.stop()) throw Error(ErrorKind::kStopped, "stopped");
    });
  }

  bool is_recent(Nanos changed) const {
    return changed <= options_.now && options_.now - changed <= 30 * kDay;
  }

  void note_recent(Nanos changed, std::uint64_t size) {
    Nanos age = options_.now - changed;
    if (age < 0) return;
    RecentBytes& recent = result_.recent;
    recent.known = true;
    recent.day += age <= kDay ? size : 0;
    recent.week += age <= 7 * kDay ? size : 0;
    recent.month += is_recent(changed) ? size : 0;
  }

  // A file that is new, or is not what it was.
  void weigh(const WalkEvent& event, const IndexEntry* old) {
    if (!plan_.compared_with || !options_.limits) return;
    if (old != nullptr) tally_.changed(*old, event.st);
    Fd fd = event.at.open_file();
    noise_.expect(event.path, EntryType::kFile, fd && begins_like_noise(fd.get()));
  }

  // What turned up under another path is not gone.
  void subtract_moves() {
    std::sort(gone_.begin(), gone_.end());
    std::sort(moved_.begin(), moved_.end());
    std::vector<std::uint64_t> both;
    std::set_intersection(gone_.begin(), gone_.end(), moved_.begin(), moved_.end(),
                          std::back_inserter(both));
    result_.files.gone -= std::min<std::uint64_t>(result_.files.gone, both.size());
    tally_.moved(both.size());
  }

  void warn_of_silent_folders() {
    for (const FolderChanges& folder : result_.folders) {
      bool told = std::any_of(result_.warnings.begin(), result_.warnings.end(),
                              [&](const Warning& w) { return w.path == folder.folder; });
      // A folder that was named within it counts by itself.
      bool seen = std::any_of(result_.folders.begin(), result_.folders.end(), [&](const auto& f) {
        return f.files.seen > 0 && is_within(f.folder, folder.folder);
      });
      if (seen || told) continue;
      bool rules = folder.files.left_out + folders_left_out_[folder.folder] > 0;
      result_.warnings.push_back({folder.folder, nothing_copied(rules)});
    }
  }

  const RunPlan& plan_;
  Index& index_;
  const ExpectOptions& options_;
  Observer& observer_;
  ExpectedChanges result_;
  ChangeDetector detector_;
  NewFileRules new_files_;
  Walk walk_;
  ChangeTally tally_;
  NoiseCount noise_;
  std::map<std::string, std::uint64_t> folders_left_out_;
  std::vector<std::uint64_t> gone_, moved_;
};

}  // namespace

std::string nothing_copied(bool left_out) {
  return left_out ? "nothing is copied from this folder: the rules leave out all of it"
                  : "nothing is copied from this folder: it holds no files";
}

const char* fate_name(FileFate fate) {
  static constexpr std::array<const char*, 8> kNames = {"new",  "changed", "moved",    "same",
                                                        "gone", "absent",  "left out", "failed"};
  return kNames[static_cast<std::size_t>(fate)];
}

ExpectedChanges expected_changes(const RunPlan& plan, const Selection& selection, Index& index,
                                 const ExpectOptions& options, Observer& observer) {
  return Expectation(plan, selection, index, options, observer).run();
}

RunEstimate estimate_run(const MachineState& machine, const Job& job, ExpectedChanges& changes,
                         bool sample) {
  RunEstimate estimate;
  PastRuns past = past_runs(RunRecords(machine, job.name));
  std::uint64_t entries = (changes.files.copied + changes.files.moved) * kEntryCost + kSetCost;
  std::uint64_t bytes = changes.bytes.copied;
  double error = 0;
  if (sample && changes.bytes.copied > 0) {
    SizeEstimate::Ratio ratio = changes.sizes.ratio(job.level);
    estimate.ratio = estimate.fresh_ratio = ratio.value;
    error = ratio.error;
    bytes = changes.sizes.bytes();
    estimate.from = "a sample of the files";
  } else if (past.copied > 0) {
    estimate.ratio = estimate.fresh_ratio = past.ratio;
    error = kPastError * past.ratio;
    entries = kSetCost;  // a share of what past sets stored
    estimate.from = "past runs of this job";
  } else {
    estimate.from = "nothing known";
  }
  auto of_bytes = [&](double ratio) {
    return static_cast<std::uint64_t>(static_cast<double>(bytes) * ratio);
  };
  estimate.stored = of_bytes(estimate.ratio) + entries;
  estimate.error = of_bytes(error) + entries / 4;
  if (past.seconds_a_unit > 0) {
    estimate.seconds =
        past.seconds_a_unit *
        PastRuns::units(changes.bytes.copied, changes.files.copied, changes.files.seen);
  }
  return estimate;
}

void sample_fresh_files(const Job& job, ExpectedChanges& changes, RunEstimate& estimate) {
  if (changes.fresh_bytes == 0 || changes.fresh_bytes >= changes.bytes.copied) return;
  estimate.fresh_ratio = changes.fresh_sizes.ratio(job.level).value;
}

}  // namespace kestrum
