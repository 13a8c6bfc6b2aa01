// What editing a job changes for what is on its shelf.
#pragma once

#include <string>

#include "kestrum/job/job.h"

namespace kestrum {

// What a change of a job means for its chain; empty if nothing.
std::string change_in_words(const Job& before, const Job& after);

}  // namespace kestrum
