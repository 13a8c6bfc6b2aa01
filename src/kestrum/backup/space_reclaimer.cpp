#include "kestrum/backup/space_reclaimer.h"

#include <fmt/format.h>

#include <algorithm>

#include "kestrum/base/shell_word.h"
#include "kestrum/base/units.h"

namespace kestrum {
namespace {

// With so many times the largest set's room free, a run is begun without working out its size.
constexpr std::uint64_t kAmple = 4;
constexpr std::uint64_t kDoubt = 10;  // an expectation may be wrong by the tenth

}  // namespace

SpaceReclaimer::SpaceReclaimer(const RunInput& input, OpenShelf& open, Index& index,
                               std::optional<SetId> base, std::function<std::uint64_t()> expect)
    : open_(open),
      index_(index),
      job_(input.job),
      observer_(input.observer),
      expect_(std::move(expect)) {
  options_.base_in_use = base;
  options_.in_a_run = true;
  options_.mind_wishes = false;
  options_.now = input.started;
  options_.interval = input.interval;
  options_.stop = input.options.stop;
}

std::uint64_t SpaceReclaimer::expected() {
  if (!expected_) expected_ = expect_();
  return *expected_;
}

PruneReport SpaceReclaimer::prune(const PruneOptions& options) {
  PruneReport report = prune_shelf(open_, job_, index_, options, observer_);
  for (const PrunedSet& set : report.removed) {
    removed_.push_back(set);
    if (!set.broke.empty()) observer_.note("restore point lost: " + set.lost_in_words());
  }
  return report;
}

void SpaceReclaimer::before(bool can_be_smaller) {
  // There is nothing to prune, or nothing is: another disk comes.
  if (open_.shelf.sets().empty() || job_.when_full == WhenFull::kAsk) return;
  std::uint64_t largest = 0;
  for (const ShelfSet& set : open_.shelf.sets()) {
    if (set.sealed()) largest = std::max(largest, set.seal.totals.stored);
  }
  auto room = open_.place->room();
  if (!room) return;  // what does not fit will be told when it is written
  std::uint64_t free = room->free;
  if (free / kAmple >= largest) return;
  if (expected() <= free) return;
  auto give_way = [&] {
    std::uint64_t left = open_.place->room().value_or(Room{}).free;
    bool may_break = job_.when_full == WhenFull::kPruneDeeper;
    if (can_be_smaller && !may_break && expected() - expected() / kDoubt > left) throw explain(0);
  };
  if (job_.when_full == WhenFull::kStop) return give_way();
  PruneReport pruned = prune(options_);
  observer_.note(fmt::format(
      "about {} are needed and {} were free: {}", format_size(expected()), format_size(free),
      pruned.removed.empty()
          ? "nothing could be pruned, as " + pruned.kept_why
          : fmt::format("pruned {} first, {} freed", counted(pruned.removed.size(), "set"),
                        format_size(pruned.freed))));
  give_way();
}

bool SpaceReclaimer::during() {
  was_full_ = true;
  if (!prunes_by_itself(job_.when_full)) return false;
  PruneOptions options = options_;
  if (job_.when_full == WhenFull::kPruneDeeper) {
    options.break_promises = true;
    std::uint64_t free = open_.place->room().value_or(Room{}).free;
    options.to_free = expected_ && *expected_ > free ? *expected_ - free : 1;
  }
  std::uint64_t before = removed_.size();
  PruneReport pruned = prune(options);
  if (removed_.size() == before) return false;
  observer_.note(fmt::format("the disk is full: pruned {}, {} freed; the run goes on",
                             counted(pruned.removed.size(), "set"), format_size(pruned.freed)));
  return true;
}

Error SpaceReclaimer::explain(std::uint64_t written) {
  auto room = open_.place->room();
  std::uint64_t free = room ? room->free : 0, need = std::max(expected(), written);
  std::string message = job_.name + ": ";
  message += !room         ? "no room is left at " + open_.path
             : need > free ? format_size(need - free) + " short"
                           : std::string("the disk is full");
  if (std::uint64_t total = room ? room->total : UINT64_MAX; need > total) {
    message += fmt::format(": {} are needed, and the disk holds {} in all, too little for this job",
                           format_size(need), format_size(total));
  }
  if (job_.when_full == WhenFull::kStop) {
    return Error(ErrorKind::kNoRoom,
                 message + "; nothing is removed by itself (\"when_full = stop\")",
                 "see what could go: kestrum prune " + job_.name + " --rehearse");
  }
  KeepInput keep = keep_input(open_, &index_, job_, options_.now, options_.interval);
  std::string hint =
      pruning_blocked(keep)
          ? "until then nothing goes; a larger disk helps as well"
          : fmt::format(
                "a larger disk, a shorter promise, or kestrum prune {} --to-free {} "
                "--break-promises",
                job_.name, shell_word(need > free ? format_size(need - free) : "1 GB"));
  return Error(ErrorKind::kNoRoom, message + "; " + explain_kept(keep), hint);
}

}  // namespace kestrum
