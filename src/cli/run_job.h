// Running one job with its log, its record and its words on the terminal: for run by name, for what
// is due and for what a change sets off.
#pragma once

#include <optional>
#include <string>

#include "args.h"
#include "context.h"
#include "kestrum/machine/run_report.h"

namespace kestrum::cli {

struct RunRequest {
  std::string job;
  std::optional<SetKind> kind;
  std::optional<std::string> on_place;
  bool reread = false, no_verify = false, accept_empty = false;
  std::string trigger = "by hand";
  bool by_hand = true;
};

// What --kind says; throws Error(kUsage) for a word that is no kind.
std::optional<SetKind> wanted_kind(const Args& args);

// Throws Error(kUsage) for a job that cannot be loaded; what goes wrong later is in the report.
RunReport run_job(const Context& context, const Args& args, const RunRequest& request);

// A run that did not take place, put on record: a time that was missed, a disk that is awaited.
RunReport record_skipped(const Context& context, const Job& job, const std::string& reason,
                         int exit);

// The job that was done and says that the system is to power off; nothing if none does.
std::optional<std::string> wants_power_off(const Context& context,
                                           const std::vector<RunReport>& reports);
// Asks the system to power off, if a job that was done says so.
void power_off_after(const Context& context, const std::vector<RunReport>& reports);

}  // namespace kestrum::cli
