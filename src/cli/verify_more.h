// Other ways to verify than by all seals.
#pragma once

#include "each_job.h"

namespace kestrum::cli {

// verify --sample: some files of the shelf, chosen at random.
JobAnswer verify_sample(const Context& context, const Args& args);
// verify --against-source: a restore point held against the PC's files as they are now.
JobAnswer verify_against_source(const Context& context, const Args& args);

}  // namespace kestrum::cli
