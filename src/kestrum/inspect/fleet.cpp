#include "kestrum/inspect/fleet.h"

#include <fmt/format.h>

#include <algorithm>
#include <atomic>
#include <future>
#include <map>
#include <thread>
#include <tuple>

#include "kestrum/access/open_shelf.h"
#include "kestrum/base/file.h"
#include "kestrum/base/followed.h"
#include "kestrum/base/json.h"
#include "kestrum/base/text.h"
#include "kestrum/base/units.h"
#include "kestrum/machine/run_records.h"
#include "kestrum/place/local_place.h"
#include "kestrum/shelf/drill_note.h"

namespace kestrum {
namespace {

constexpr std::uint64_t kLastRunLimit = 1 << 20;  // bytes
constexpr std::size_t kMostFolders = 50'000;      // that are looked through for shelves
// A shelf is late when nothing new is there for so many of its intervals, and for this long.
constexpr int kLateIntervals = 3;
constexpr Nanos kLateAtLeast = 3 * kDay;
constexpr Nanos kByHandAtMost = 31 * kDay;  // where no interval is known
constexpr Nanos kUndrilledAtMost = 92 * kDay;
constexpr Nanos kAheadAtMost = kDay;               // of this PC's clock
constexpr std::uint64_t kGrownFrom = 100'000'000;  // bytes of a set
constexpr std::uint64_t kGrownTimes = 4;
constexpr std::size_t kSetsCompared = 10;

// The middle one; 0 of none.
template <typename Number>
Number median(std::vector<Number> numbers) {
  if (numbers.empty()) return 0;
  auto middle = numbers.begin() + static_cast<std::ptrdiff_t>(numbers.size() / 2);
  std::nth_element(numbers.begin(), middle, numbers.end());
  return *middle;
}

class ShelfLook {
 public:
  ShelfLook(const MachineState& machine, std::string folder, Nanos now)
      : machine_(machine), now_(now) {
    row_.folder = std::move(folder);
  }

  FleetRow run() {
    try {
      look();
    } catch (const Error& error) {
      trouble(error.message());
    } catch (const std::exception& error) {  // of what is hostile
      trouble(std::string("cannot be read: ") + error.what());
    }
    return std::move(row_);
  }

 private:
  void add(StatusLevel level, const std::string& text) {
    bool worst = level > row_.level;
    row_.level = std::max(row_.level, level);
    row_.reasons.insert(worst ? row_.reasons.begin() : row_.reasons.end(), printable(text));
  }
  void trouble(const std::string& text) { add(StatusLevel::kCritical, text); }
  void heed(const std::string& text) { add(StatusLevel::kWarning, text); }
  std::string age(Nanos then) const { return format_ago(then, now_); }

  void look() {
    OpenShelf open = open_shelf_at(machine_, row_.folder);
    const ShelfLabel& label = open.shelf.label();
    row_.host = label.host;
    row_.job = label.job;
    if (auto room = open.place->room()) row_.free_bytes = room->free;
    if (open.vouched()) row_.vouched = open.shelf.label_signed();
    if (row_.vouched == false) trouble("shelf.json is not signed by the PC that writes here");
    if (base_name(parent_of(row_.folder)) != label.host || base_name(row_.folder) != label.job) {
      heed("it says that it is " + label.job + " of " + label.host +
           ", and lies in another folder");
    }
    if (label.copy_of) add(StatusLevel::kFine, "a copy; its shelf was in " + *label.copy_of);
    if (label.waits) {
      add(StatusLevel::kFine, "waits until the disk before it is full; nothing on it yet");
      return;
    }
    if (label.filled) {
      add(StatusLevel::kFine, "filled; the shelf goes on in " + label.moved_to.value_or("?") +
                                  ", and needs what lies here");
    } else if (label.moved_to) {
      heed("it has moved to " + *label.moved_to + "; what is here is old");
    }
    read_last_run(*open.place);
    look_at_sets(open.shelf);
    if (auto why = open.shelf.set_back()) trouble("an older state of itself: " + *why);
    if (!label.moved_to) look_at_ages(label);
  }

  // Not signed: what it says can make a row worse, never better.
  void read_last_run(Place& place) {
    try {
      if (!place.exists(kLastRunFile)) return;
      Json record = Json::parse(read_small(place, kLastRunFile, kLastRunLimit), nullptr, false);
      if (record.is_object()) last_run_ = std::move(record);
    } catch (const Error&) {
    }
    if (!last_run_.is_object()) return heed("last-run.json cannot be read");
    row_.heard = record_time(last_run_, "finished");
    std::string outcome = record_text(last_run_, "outcome");
    if (outcome == "failed") trouble("the last run failed, " + age(row_.heard));
    if (outcome == "stopped") heed("the last run was stopped, " + age(row_.heard));
    if (outcome == "done with warnings") {
      heed("the last run had warnings: kestrum history " + row_.job + " --show newest, on " +
           row_.host);
    }
    if (std::uint64_t damaged = record_count(last_run_, "checks", "damaged_sets"); damaged > 0) {
      trouble(counted(damaged, "set") + " damaged, as that PC knows");
    }
    note_ = read_drill_note(place, now_);
    if (note_ && note_->mismatches > 0) {
      trouble("a drill at " + note_->host + " did not get every file back, as it says");
    }
    if (record_count(last_run_, "checks", "drill_mismatches") > 0) {
      trouble("its last drill did not get every file back");
    }
  }

  void look_at_sets(const Shelf& shelf) {
    std::size_t unusable = 0;
    std::string problem;
    for (const ShelfSet& set : shelf.sets()) {
      if (!set.sealed()) {
        if (!set.unreadable) continue;  // a run that is at work, or was cut off
        if (unusable++ == 0) problem = set.id.to_string() + ": " + set.problem;
        continue;
      }
      ++row_.restore_points;
      row_.stored_bytes += set.seal.totals.stored;
      if (row_.oldest == 0) row_.oldest = set.seal.started;
      row_.newest = std::max(row_.newest, set.seal.started);
      row_.heard = std::max(row_.heard, set.seal.finished);
      if (row_.vouched == true && !set.vouched) row_.vouched = false;
      times_.push_back(set.seal.started);
      stored_[set.seal.kind].push_back(set.seal.totals.stored);
    }
    if (unusable > 0) {
      trouble(fmt::format("{} cannot be used ({})", counted(unusable, "set"), problem));
    }
    if (const ShelfSet* suspect = shelf.first_suspect()) {
      trouble(suspect->id.to_string() + " is SUSPECT, " + age(suspect->seal.started));
    }
    if (const ShelfSet* newest = shelf.newest()) look_at_growth(*newest);
  }

  void look_at_growth(const ShelfSet& newest) {
    std::vector<std::uint64_t> before = stored_[newest.seal.kind];
    before.pop_back();
    if (before.size() > kSetsCompared) {
      before.erase(before.begin(), before.end() - static_cast<std::ptrdiff_t>(kSetsCompared));
    }
    std::uint64_t stored = newest.seal.totals.stored, usual = median(before);
    if (before.size() >= 3 && stored > kGrownFrom && stored > kGrownTimes * usual) {
      heed(fmt::format("growing: {} takes {}, usually it is {}", newest.id.to_string(),
                       format_size(stored), format_size(usual)));
    }
    std::uint64_t full = stored_[SetKind::kFull].empty() ? 0 : stored_[SetKind::kFull].back();
    if (row_.free_bytes && *row_.free_bytes < full) {
      heed(fmt::format("room for no full set: {} are left, the last one took {}",
                       format_size(*row_.free_bytes), format_size(full)));
    }
  }

  // As that PC says, else as its sets came.
  Nanos interval() const {
    std::uint64_t told = record_count(last_run_, "checks", "interval_seconds");
    if (told > 0 && told < 10 * 366 * 86'400ULL) return static_cast<Nanos>(told) * kSecond;
    std::vector<Nanos> gaps;
    for (std::size_t i = times_.size() - std::min(times_.size(), kSetsCompared) + 1;
         i < times_.size(); ++i) {
      gaps.push_back(times_[i] - times_[i - 1]);
    }
    if (gaps.size() < 3) return 0;
    return std::max<Nanos>(0, median(std::move(gaps)));
  }

  void look_at_ages(const ShelfLabel& label) {
    Nanos every = interval();
    Nanos patience = every == 0 ? kByHandAtMost : std::max(kLateAtLeast, kLateIntervals * every);
    if (row_.newest == 0) {
      std::string text = "no restore point yet; the shelf was made " + age(label.created);
      now_ - label.created > kLateAtLeast ? trouble(text) : heed(text);
    } else if (now_ - std::max(row_.heard, row_.newest) > patience) {
      trouble("not heard of since " + age(row_.heard));
    } else if (now_ - row_.newest > patience) {
      trouble("late: the newest restore point is of " + age(row_.newest));
    }
    if (row_.newest > now_ + kAheadAtMost) {
      heed("its clock is ahead of this one by " + format_duration(row_.newest - now_));
    }
    auto checks = last_run_.find("checks");
    if (!last_run_.is_object() || checks == last_run_.end() || !checks->is_object()) return;
    Nanos drilled = record_time(*checks, "drilled");
    if (note_) drilled = std::max(drilled, note_->when);
    if (drilled == 0 && row_.oldest != 0 && now_ - label.created > kUndrilledAtMost) {
      heed("never drilled");
    }
  }

  const MachineState& machine_;
  Nanos now_;
  FleetRow row_;
  std::optional<DrillNote> note_;
  Json last_run_;
  std::vector<Nanos> times_;
  std::map<SetKind, std::vector<std::uint64_t>> stored_;
};

FleetRow row_of(std::string folder, StatusLevel level, std::string reason) {
  FleetRow row;
  row.folder = std::move(folder);
  row.level = level;
  row.reasons.push_back(std::move(reason));
  return row;
}

// Folders directly in `folder` in which no shelf lies, however deep: a name that was mistyped, a
// disk that is not mounted, something else.
void add_empty_folders(const std::string& folder, const std::vector<std::string>& shelves,
                       std::vector<FleetRow>& rows) {
  LocalPlace place(folder);
  for (const PlaceEntry& entry : place.list("")) {
    if (!entry.is_folder || entry.name.starts_with('.') || entry.name == "lost+found") continue;
    std::string path = path_below(folder, entry.name);
    auto lies_here = [&](const std::string& shelf) { return is_within(shelf, path); };
    if (std::any_of(shelves.begin(), shelves.end(), lies_here)) continue;
    bool readable = true;
    try {
      place.list(entry.name);
    } catch (const Error&) {
      readable = false;
    }
    rows.push_back(readable ? row_of(path, StatusLevel::kWarning, "no shelf in this folder")
                            : row_of(path, StatusLevel::kCritical, "this folder cannot be read"));
  }
}

// One shelf is one row, wherever copies of it lie: which of them counts nobody can say.
void tell_copies(const std::vector<std::string>& ids, std::vector<FleetRow>& rows) {
  std::map<std::string, std::size_t> first;
  for (std::size_t i = 0; i < ids.size(); ++i) {
    if (ids[i].empty()) continue;
    auto [known, fresh] = first.emplace(ids[i], i);
    if (fresh) continue;
    for (std::size_t at : {known->second, i}) {
      std::size_t other = at == i ? known->second : i;
      rows[at].level = StatusLevel::kCritical;
      rows[at].reasons.push_back("the same shelf lies in " + printable(rows[other].folder) +
                                 " too: one is a copy");
    }
  }
}

std::string shelf_id(const std::string& folder) {
  try {
    LocalPlace place(folder);
    ShelfLabel label = Shelf::read_label(place);
    return label.may_be_behind() ? ""
                                 : label.shelf;  // it says itself that it is a copy, or was left
  } catch (const Error&) {
    return "";
  }
}

}  // namespace

std::vector<FleetRow> look_at_shelves(const MachineState& machine, const FleetRequest& request) {
  if (!is_named_folder(request.folder)) {
    throw Error(ErrorKind::kPlace, "not there: " + printable(request.folder))
        .about_path(request.folder);
  }
  std::vector<std::string> folders = shelves_below(request.folder, kMostFolders);
  if (seems_shelf(request.folder, "")) folders.push_back(request.folder);
  std::vector<FleetRow> rows(folders.size());
  std::vector<std::string> ids(folders.size());
  // Mostly waiting for the disk or the share.
  std::atomic<std::size_t> next = 0;
  auto work = [&] {
    for (std::size_t at = next++; at < folders.size(); at = next++) {
      ids[at] = shelf_id(folders[at]);
      rows[at] = ShelfLook(machine, folders[at], request.now).run();
    }
  };
  std::vector<std::future<void>> workers;
  for (unsigned i = 0; i < std::clamp(std::thread::hardware_concurrency(), 2U, 8U); ++i) {
    workers.push_back(std::async(std::launch::async, work));
  }
  for (auto& worker : workers) worker.get();
  tell_copies(ids, rows);
  add_empty_folders(request.folder, folders, rows);
  for (const std::string& host : request.expected) {
    bool there = std::any_of(rows.begin(), rows.end(),
                             [&](const FleetRow& row) { return row.host == host; });
    if (there) continue;
    rows.push_back(row_of("", StatusLevel::kCritical, "no shelf of this PC is here"));
    rows.back().host = host;
  }
  std::stable_sort(rows.begin(), rows.end(), [](const FleetRow& a, const FleetRow& b) {
    if (a.level != b.level) return a.level > b.level;
    return std::tie(a.host, a.job, a.folder) < std::tie(b.host, b.job, b.folder);
  });
  return rows;
}

}  // namespace kestrum
