// A job in plain words, for job new, job show and shelf start.
#pragma once

#include <string>

#include "context.h"
#include "kestrum/job/job.h"

namespace kestrum::cli {

// Lines of "  copies      /home/..." and so on.
std::string job_in_words(const Context& context, const Job& job);
// "1 full + 13 incrementals, a new full about every 14 days, the disk must hold 3 full sets at
// once"
std::string chain_in_words(const Context& context, const Job& job);

// The next three times of its schedule: "2026-03-02 21:00, ..."; empty if it has none.
std::string next_times_in_words(const Context& context, const Job& job);

}  // namespace kestrum::cli
