#include "due_checks.h"

#include <fmt/format.h>

#include "kestrum/access/find_shelf.h"
#include "kestrum/access/job_reader.h"
#include "kestrum/access/other_disks.h"
#include "kestrum/backup/copy_job.h"
#include "kestrum/base/text.h"
#include "kestrum/base/units.h"
#include "kestrum/inspect/due_verify.h"
#include "kestrum/machine/action_log.h"
#include "kestrum/restore/drill.h"
#include "read_observer.h"
#include "shelf_copy_words.h"

namespace kestrum::cli {
namespace {

constexpr Nanos kAskAgain = 15 * kSecond;  // whether a run is due

}  // namespace

bool DueChecks::gives_way() {
  if (stop_requested()) return true;
  if (gave_way_) return true;
  if (steady_now() - asked_ < kAskAgain) return false;
  asked_ = steady_now();
  gave_way_ = run_is_due_();
  return gave_way_;
}

DueChecks::Ended DueChecks::verify(const Job& job) {
  Ended ended{RunEnd::kWaiting, "", 0};
  std::string told;
  ReadObserver observer(context_);
  for (KnownShelf& known : known_shelves(context_.machine(), job)) {
    if (!known.open) {
      if (ended.reason.empty()) ended.reason = known.why_not->message();
      continue;
    }
    DueVerifyRequest request;
    request.percent = job.checks.each_time;
    request.set_back = why_set_back(context_.machine(), *known.open);
    request.stop = [this] { return gives_way(); };
    DueVerifyResult result = verify_when_due(*known.open, request, observer);
    if (!result.words.empty()) {
      if (!told.empty()) told += "; ";
      told += known.disk.empty() ? result.words : known.disk + ": " + result.words;
    }
    if (result.damaged > 0) ended.exit = 4;
    if (result.stopped) return {RunEnd::kStopped, told, ended.exit};
    ended.how = RunEnd::kDone;
  }
  observer.end();
  if (ended.how == RunEnd::kDone) ended.reason = told;
  return ended;
}

DueChecks::Ended DueChecks::drill(const Job& job) {
  ReadOptions options;
  options.job = job;
  options.need_content = true;
  options.keys.unprotected_meant = true;  // by the job
  Args nothing;
  options.keys.passphrase = [&] {
    return find_passphrase(nothing, job.name, job.passphrase_from, false);
  };
  ReadObserver observer(context_);
  JobReader reader(context_.machine(), options, observer);
  DrillRequest request;
  request.scratch = context_.home.state + "/drill";
  request.seed = random_seed();
  request.stop = [this] { return gives_way(); };
  std::uint64_t files = 0, wrong = 0;
  for (ReadSession* session : reader.sessions()) {
    session->unlock_content();
    DrillResult result = kestrum::drill(*session, request, observer);
    files += result.files;
    wrong += result.mismatches.size();
  }
  observer.end();
  return {RunEnd::kDone,
          counted(files, "file") +
              (wrong == 0 ? ", all came back right" : fmt::format(", {} WRONG", wrong)),
          wrong == 0 ? 0 : 4};
}

// Each place by itself: one that is away keeps no other from being brought up to date.
DueChecks::Ended DueChecks::copy(const Job& job) {
  Ended ended{job.copies.to.empty() ? RunEnd::kFailed : RunEnd::kWaiting, "copies.to is empty", 2};
  std::string told;
  ReadObserver observer(context_);
  for (const std::string& place : job.copies.to) {
    CopyJobOptions options;
    options.place = place;
    options.update_only = true;  // the first is made by a person
    options.same_disk = true;    // who agreed to that, if it is so
    options.stop = [this] { return gives_way(); };
    try {
      CopyJobResult result = copy_job(context_.machine(), job, options, context_.clock, observer);
      if (!told.empty()) told += "; ";
      told += copy_in_words(result);
      if (ended.how == RunEnd::kWaiting) ended = {RunEnd::kDone, "", 0};
      if (!result.copy.problems.empty()) ended.exit = 4;
    } catch (const Error& error) {
      if (!error.worth_waiting()) throw;
      if (ended.how == RunEnd::kWaiting) ended = {RunEnd::kWaiting, error.message(), 0};
    }
  }
  observer.end();
  if (ended.how == RunEnd::kDone) ended.reason = told;
  return ended;
}

void DueChecks::check(const DueCheck& due) {
  Ended ended;
  try {
    ended = due.kind == CheckKind::kVerify  ? verify(due.job)
            : due.kind == CheckKind::kDrill ? drill(due.job)
                                            : copy(due.job);
  } catch (const Error& error) {
    RunEnd how = error.kind() == ErrorKind::kStopped ? RunEnd::kStopped
                 : error.worth_waiting()             ? RunEnd::kWaiting
                                                     : RunEnd::kFailed;
    ended = {how, error.message(), how == RunEnd::kFailed ? error.exit_code() : 0};
  }
  schedule_.ended(due, ended.how, ended.reason);
  exit_ = worse_exit(exit_, ended.exit);
  if (ended.how == RunEnd::kWaiting || ended.how == RunEnd::kStopped) return;
  std::string how = ended.how == RunEnd::kFailed ? "failed: " : "";
  note_action(context_.machine(), due.job.name, check_name(due.kind), how + ended.reason,
              context_.clock.now());
  std::string line =
      fmt::format("{}: {}: {}{}", due.job.name, check_name(due.kind), how, printable(ended.reason));
  if (ended.exit != 0) {
    context_.tell(line);
  } else if (!context_.quiet) {
    context_.say(line);
  }
}

bool DueChecks::run(Nanos watching_since, const std::set<std::string>& ran) {
  gave_way_ = false;
  asked_ = steady_now();
  for (const DueCheck& due : schedule_.look(watching_since, ran)) {
    check(due);
    if (gave_way_ || stop_requested()) return false;
  }
  return true;
}

}  // namespace kestrum::cli
