#include "kestrum/backup/set_build.h"

#include <fmt/format.h>

#include "kestrum/base/units.h"
#include "kestrum/plan/change_tally.h"
#include "kestrum/system/power.h"

namespace kestrum {
namespace {

// Reading back goes on beside writing: its rate is that of the reading alone.
void log_read_back(Observer& observer, const ReadBackTotals& read) {
  if (read.bytes == 0 || read.time <= 0) return;
  auto rate = static_cast<std::uint64_t>(static_cast<double>(read.bytes) * kSecond /
                                         static_cast<double>(read.time));
  observer.log(fmt::format("read back {}: {}/s", format_size(read.bytes), format_size(rate)));
}

}  // namespace

SetBuild::SetBuild(const RunInput& input, OpenShelf& open, Index& index, const RunPlan& plan,
                   RunMessages& messages)
    : input_(input),
      open_(open),
      index_(index),
      plan_(plan),
      messages_(messages),
      packing_{input.job.level, open.shelf.label().recipient},
      folder_(std::string(kSetsFolder) + "/" + set_folder_name(plan.next.id, input.started) +
              std::string(kUnfinishedSuffix)) {}

void SetBuild::continue_or_discard() {
  BegunSet wanted{plan_.next.kind, plan_.next.based_on, "", 0, "", {}};
  wanted.packing = packing_word(packing_, input_.job.part_size);
  auto found = find_continuation(open_, index_, wanted, SourceTree(plan_.roots.present),
                                 input_.options.stop, input_.observer);
  continued_ = std::move(found.use);
  Shelf& shelf = open_.shelf;
  for (const std::string& folder : shelf.leftovers()) {
    if (continued_ && folder == continued_->folder) continue;
    if (is_of_another_disk(open_, index_, folder)) {
      messages_.note("it stays, as it says that it goes on on another disk: " + folder);
      continue;
    }
    messages_.note("an earlier run did not finish" +
                   (found.refused.empty() ? "" : "; it cannot be gone on with: " + found.refused) +
                   "; what it left is removed: " + folder);
    if (!shelf.discard(folder)) {
      messages_.note("it has been sealed meanwhile, and stays: " + folder);
    }
  }
  if (!continued_) return;
  messages_.note(fmt::format(
      "the run of {} is gone on with: {} ({}) are kept", format_local(continued_->begun),
      counted(continued_->parts.size(), "part"), format_size(continued_->bytes())));
  index_.carry_over(continued_->parts.back().complete_until());
}

// What an interrupted run left moves to the folder of the set.
void SetBuild::open_folder() {
  // Where all that is kept lies on other disks, there is none here yet.
  bool moves = continued_ && continued_->folder != folder_;
  if (moves && open_.place->exists(continued_->folder) &&
      !renamed_if_offered(*open_.place, continued_->folder, folder_)) {
    folder_ = continued_->folder;
  }
  BegunSet begun{plan_.next.kind,
                 plan_.next.based_on,
                 folder_,
                 continued_ ? continued_->begun : input_.started,
                 packing_word(packing_, input_.job.part_size),
                 continued_ ? continued_->parts : std::vector<ClosedPart>{}};
  open_.place->make_folder(folder_);
  if (continued_) remove_all_but(*open_.place, folder_, continued_->parts);
  index_.journal_start(begun);
}

BuiltSet SetBuild::build(Place& place, const Selection& selection, const SnapshotView& snapshots) {
  open_folder();
  BuiltSet built;
  built.folder = folder_;
  built.packing = packing_;
  built.read_back = input_.options.no_verify ? ReadBack::kOff : input_.job.verify;
  // Of a place that nothing was read from yet, nobody knows whether it gives back what it took.
  bool first = open_.shelf.sets().empty();
  if (built.read_back == ReadBack::kSizes && first) built.read_back = ReadBack::kParts;
  built.begun = continued_ ? continued_->begun : input_.started;
  RunObserver& observer = input_.observer;
  std::optional<TotalsCounter> totals;
  if (observer.wants_totals()) {
    totals.emplace(plan_.roots.present, selection);
    observer.count(&*totals);
  }
  SetBuilderInput builder_input{plan_,
                                input_.options.reread,
                                input_.started,
                                std::nullopt,
                                input_.options.stop,
                                &snapshots,
                                stretches_folder(open_.shelf.label().shelf)};
  if (continued_) builder_input.cut = continued_->parts.back().cut;
  built.blocks = std::make_unique<BlocksWriter>(place, folder_ + "/" + kBlocksFile);
  SetWriter writer(
      place, folder_,
      {packing_, input_.job.part_size, built.read_back, worker_threads(input_.job.low_priority),
       continued_ ? continued_->parts : std::vector<ClosedPart>{}, built.blocks.get(),
       input_.options.stop, [&](const std::vector<ClosedPart>& parts) { index_.checkpoint(parts); },
       open_.shelf.label().moves});
  SetBuilder builder(builder_input, selection, index_, writer, messages_);
  auto ended = [&] {
    observer.count(nullptr);
    result_ = builder.result();
  };
  try {
    builder.build();
    ended();
    built.mends_damage = report_mended(result_);
    NoiseCount noise(index_, NoiseCount::Source::kJournal, plan_.compared_with);
    built.suspicion = suspicion_of(result_.changes, plan_, index_, noise,
                                   {input_.job.suspect_percent, input_.options.accept_empty});
    observer.progress({"finishing", result_.files.seen, 0, result_.bytes.seen, 0, ""});
    built.parts = writer.finish();
    log_read_back(observer, writer.read_back_totals());
  } catch (const Error& error) {
    ended();
    writer.give_up(error.kind() == ErrorKind::kStopped);
    throw;
  } catch (...) {  // from a library
    ended();
    throw;
  }
  built.result = result_;
  if (continued_) {
    built.kept_stored = continued_->bytes();
    built.kept_copied = builder.carried_bytes();
  }
  return built;
}

// What lay in damaged parts is in this set again, or nothing leans on them any more.
bool SetBuild::report_mended(const BuildResult& result) {
  if (result.stored_anew > 0) {
    messages_.note(counted(result.stored_anew, "file") +
                   " that lay in damaged parts of earlier sets are stored anew");
  }
  if (result.still_lost > 0) {
    messages_.warn(counted(result.still_lost, "file") +
                   " lie in damaged parts of earlier sets, and could not be read now to store them "
                   "anew");
  }
  // A full set says nothing of what could not be read for it.
  bool lacks = plan_.next.kind == SetKind::kFull && result.files.absent + result.files.failed > 0;
  return result.still_lost == 0 && !lacks;
}

KeptParts SetBuild::give_up() {
  KeptParts kept;
  try {
    index_.roll_back();
    // Whether the set was sealed, and lasts, nobody can say now. The next run goes by what it
    // finds, and needs all of it.
    if (index_.pending() || open_.place->exists(folder_ + "/" + kSealFile)) return kept;
    auto begun = index_.begun();
    std::vector<ClosedPart> parts = begun ? begun->parts : std::vector<ClosedPart>{};
    if (!parts.empty()) {
      kept = {parts.size(), bytes_of(parts)};
      remove_all_but(*open_.place, folder_, parts);
      return kept;
    }
    if (open_.place->exists(folder_)) open_.shelf.discard(folder_);
    index_.drop_begun();
  } catch (const std::exception&) {
    // The next run finds what is left and decides.
  }
  return kept;
}

}  // namespace kestrum
