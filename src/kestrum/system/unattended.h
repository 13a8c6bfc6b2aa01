// What a run that nobody types lacks: it has another PATH, no ssh agent, and perhaps no HOME.
#pragma once

#include <string>
#include <vector>

#include "kestrum/job/job.h"

namespace kestrum {

struct UnattendedProblem {
  std::string key;   // of the job, "before_run.command"
  std::string text;  // in words
};

// The search path that commands have there: systemd's, or cron's.
inline constexpr const char* kServicePath =
    "/usr/local/sbin:/usr/local/bin:/usr/sbin:/usr/bin:/sbin:/bin";
inline constexpr const char* kCronPath = "/usr/bin:/bin";

// Tries a job's commands (their words, not what they do) and files by an empty environment with
// that PATH. Starts /bin/sh; throws nothing.
std::vector<UnattendedProblem> try_unattended(const Job& job, const std::string& path);

// Looks for the job's places as this program finds them by that environment, which
// `why_not_started` takes too. Nothing where one of several is there and the others are away: disks
// take turns.
std::vector<UnattendedProblem> try_places_unattended(const Job& job, const std::string& program,
                                                     const std::string& home,
                                                     const std::string& path);

// Whether this program finds its jobs without HOME and all else: why not, empty if it does. `home`
// as
// --home has it; empty for the usual folders, which are found by HOME or by the user's entry.
std::string why_not_started(const std::string& program, const std::string& home,
                            const std::string& path);

}  // namespace kestrum
