// A job as a TOML file: parsed, with all that is wrong in it, and written.
#pragma once

#include <map>
#include <string>
#include <vector>

#include "kestrum/job/job.h"
#include "kestrum/job/job_problem.h"

namespace kestrum {

struct ParsedJob {
  Job job;
  std::vector<JobProblem> problems;
  bool usable() const;  // no errors among the problems
};
// Never throws for bad content: all that is wrong is in the problems. Keys without effect are no
// errors here. A key counts in its own section alone, however it is quoted.
ParsedJob parse_job(const std::string& name, const std::string& toml);

// The text of a job file that sets `values` and leaves every other key at its default.
std::string render_job(const std::map<std::string, KeyValue>& values);

}  // namespace kestrum
