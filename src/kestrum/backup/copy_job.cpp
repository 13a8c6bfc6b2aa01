#include "kestrum/backup/copy_job.h"

#include <algorithm>

#include "kestrum/access/find_shelf.h"
#include "kestrum/access/open_place.h"
#include "kestrum/access/start_shelf.h"
#include "kestrum/base/below.h"
#include "kestrum/base/error.h"
#include "kestrum/base/followed.h"
#include "kestrum/base/shell_word.h"
#include "kestrum/base/text.h"
#include "kestrum/machine/job_lock.h"

namespace kestrum {
namespace {

// The shelf of which there is a copy at the place already, or the one that has the newest set.
OpenShelf shelf_to_copy(const MachineState& machine, const Job& job,
                        const CopyJobOptions& options) {
  std::optional<OpenShelf> newest;
  std::optional<Error> why_not;
  for (KnownShelf& known : known_shelves(machine, job, options.on)) {
    if (!known.open) {
      if (!why_not) why_not = known.why_not;
      continue;
    }
    if (!known.open->read_only.empty()) continue;
    if (find_copy(*known.open->state, options.place)) return std::move(*known.open);
    auto started = [](const OpenShelf& open) {
      return open.shelf.newest() == nullptr ? 0 : open.shelf.newest()->seal.started;
    };
    if (!newest || started(*newest) < started(*known.open)) newest = std::move(known.open);
  }
  if (newest) return std::move(*newest);
  if (why_not) throw *why_not;
  throw Error(ErrorKind::kPlace, kTakenOver).about_job(job.name);
}

void refuse_same_disk(const OpenShelf& from, const std::string& place) {
  struct stat shelf {
  }, copy{};
  if (!look_named(from.path, shelf) || !look_named(place, copy)) return;
  if (shelf.st_dev != copy.st_dev) return;
  throw Error(ErrorKind::kUsage, printable(place) + " is on the disk of the shelf itself",
              "a copy belongs on another disk; --same-disk takes it all the same")
      .about_path(place);
}

class CopyPruning {
 public:
  CopyPruning(OpenShelf& copy, const Job& job, const CopyJobOptions& options, Nanos now,
              Nanos interval, Observer& observer)
      : copy_(copy), job_(job), index_(copy.state->index_path()), observer_(observer) {
    options_.in_a_run = true;  // the index tells of the shelf, not of its copy
    options_.now = now;
    options_.interval = interval;
    options_.stop = options.stop;
  }
  std::vector<PrunedSet> run() {
    return prune_shelf(copy_, job_, index_, options_, observer_).removed;
  }

 private:
  OpenShelf& copy_;
  const Job& job_;
  Index index_;
  PruneOptions options_;
  Observer& observer_;
};

void remember_copy(ShelfState& of, const std::string& place, const OpenShelf* copy,
                   std::size_t problems) {
  CopyRecord made{place, calendar_now(), std::nullopt, 0, problems};
  if (copy != nullptr) {
    made.sets = copy->shelf.sets().size();
    if (const ShelfSet* newest = copy->shelf.newest()) made.newest = newest->id;
  }
  of.update_record([&](ShelfRecord& record) {
    std::erase_if(record.copies, [&](const CopyRecord& known) { return known.place == place; });
    record.copies.push_back(std::move(made));
  });
}

}  // namespace

std::string copy_lock_name(const Job& job) {
  return job.name + "~copy";
}

CopyJobResult copy_job(const MachineState& machine, const Job& job, const CopyJobOptions& options,
                       const Clock& clock, Observer& observer) {
  JobLock lock(machine, copy_lock_name(job), "copying");
  OpenShelf from = shelf_to_copy(machine, job, options);
  check_clock(from.shelf.label(), clock);
  if (!is_place(options.place)) {
    throw Error(ErrorKind::kPlace, "not plugged in: " + printable(options.place) + ", for the copy",
                "plug it in; " + printable(options.place) + " is not there")
        .about_path(options.place)
        .may_come();
  }
  if (options.update_only && !find_copy(*from.state, options.place)) {
    throw Error(ErrorKind::kPlace,
                "no copy of " + job.name + " lies at " + printable(options.place),
                "plug in its disk; the first is made by: kestrum shelf copy " + job.name +
                    " --to " + shell_word(options.place))
        .about_path(options.place)
        .may_come();
  }
  check_place(job, options.place, options.same_disk);
  for (const std::string& folder : expand_patterns(job.folders)) {
    if (!is_within(options.place, folder)) continue;
    throw Error(ErrorKind::kUsage,
                printable(options.place) + " lies in " + printable(folder) + ", which is copied",
                "a copy belongs on another disk")
        .about_path(options.place);
  }
  if (!options.same_disk) refuse_same_disk(from, options.place);
  Nanos interval = usual_interval(machine, job, clock.now());
  CopyJobResult result;
  result.from = from.path;
  result.shelf = from.shelf.label().shelf;
  auto prune = [&](std::optional<OpenShelf>& copy) {
    if (!copy || options.everything) return false;
    auto removed = CopyPruning(*copy, job, options, clock.now(), interval, observer).run();
    result.removed.insert(result.removed.end(), removed.begin(), removed.end());
    return !removed.empty();
  };
  CopyRequest request;
  request.place = options.place;
  request.newest_chain = options.newest_chain;
  request.rate_limit = job.rate_limit;
  request.stop = options.stop;
  if (!options.everything) {
    // What pruning would let go of at once.
    Index index(from.state->index_path());
    for (const Verdict& verdict :
         decide_keep(keep_input(from, &index, job, clock.now(), interval))) {
      if (verdict.goes) request.leave.insert(verdict.id);
    }
  }
  try {
    result.copy = copy_shelf(from, request, observer);
  } catch (const Error& error) {
    // What has been copied by then may be what lets older sets go.
    if (error.kind() != ErrorKind::kNoRoom) throw;
    auto copy = find_copy(*from.state, options.place);
    if (!prune(copy)) throw;
    result.copy = copy_shelf(from, request, observer);
  }
  auto copy = find_copy(*from.state, options.place);
  prune(copy);
  remember_copy(*from.state, options.place, copy ? &*copy : nullptr, result.copy.problems.size());
  return result;
}

}  // namespace kestrum
