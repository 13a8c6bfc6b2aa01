// The phases of a run, one after the other: find, recover, plan, build, commit, prune, tell.
#pragma once

#include <optional>
#include <string>
#include <vector>

#include "kestrum/access/open_shelf.h"
#include "kestrum/backup/run_input.h"
#include "kestrum/backup/run_messages.h"
#include "kestrum/backup/set_build.h"
#include "kestrum/backup/space_reclaimer.h"
#include "kestrum/machine/index.h"
#include "kestrum/machine/run_report.h"
#include "kestrum/plan/run_plan.h"

namespace kestrum {

class SetCommit;

// The state needed: the job's lock is held. What is passed by reference outlives it.
class BackupRun {
 public:
  BackupRun(const RunInput& input, RunMessages& messages) : input_(input), messages_(messages) {}

  // All phases but the last. Throws Error, and SQLite::Exception, for what ends the run; what came
  // of it until then is told all the same.
  void run();

  // ---- tell
  // What came of the phases so far; how the run ended is the caller's to say.
  void fill(RunReport& report) const;
  // After run() threw: nothing of the disk is open any more.
  void close_shelf();
  // last-run.json on the shelf, also of a failed run: what a look at many shelves reads. Adds how
  // the shelf stands to the report.
  void write_last_run(RunReport& report);

 private:
  void run_on_shelf();
  void make_set(Index& index);
  BuiltSet build_from_snapshots(SetBuild& build, Place& place, const Selection& selection);
  std::optional<std::vector<Lacking>> lacking_after(Index& index, const UnreadPaths& unread);
  Error left_disk(const std::optional<std::string>& unfinished);
  void make_smaller_set(Index& index, const Error& why);
  void remember(SetCommit& commit, bool mends_damage);
  void catch_up_head();
  void warn_of_head();
  void forget_pruned(Index& index, const SpaceReclaimer& room);
  void warn_of_suspects();
  Json checks_json() const;
  void note_away(Index& index);
  void prune(Index& index);
  bool told_why_nothing_is_pruned() const;

  const RunInput& input_;
  RunMessages& messages_;

  // What the phases returned, in their order; nothing of those that were not reached.
  std::optional<OpenShelf> open_;
  std::string shelf_path_, place_;       // of one that was closed
  std::optional<std::string> set_back_;  // why it is an older state of itself, if it is known to be
  bool shelf_was_lost_ = false;          // it went away
  std::optional<RunPlan> plan_;
  bool continued_ = false;
  BuildResult built_;
  KeptParts kept_;  // of a run that failed
  std::optional<std::string> suspicion_;
  std::uint64_t stored_bytes_ = 0;
  bool remembered_ = false;  // the index and the shelf record know of the new set
  std::optional<SetId> suspect_since_;
  std::optional<std::vector<AwayFolder>> away_;
  std::vector<std::string> pruned_;
  std::string no_pruning_;
};

}  // namespace kestrum
