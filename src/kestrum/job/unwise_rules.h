// Rules of a job that can hardly be meant.
#pragma once

#include <vector>

#include "kestrum/job/job.h"
#include "kestrum/job/job_problem.h"

namespace kestrum {

// What can be done but will hardly be meant.
std::vector<JobProblem> unwise_rules(const Job& job);

}  // namespace kestrum
