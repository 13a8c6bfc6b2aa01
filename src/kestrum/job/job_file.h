// A job as a TOML file: parsed, with all that is wrong in it, and written.
#pragma once

#include <map>
#include <string>
#include <vector>

#include "kestrum/job/job.h"

namespace kestrum {

// Something wrong, or merely unwise, in a job file.
struct JobProblem {
  bool error = true;
  std::string key;  // "source.folders", or empty
  int line = 0;     // of the file, from 1; 0 if it concerns no line
  std::string message;
  // A key that is not known, or that nothing acts on yet: an error for `job check`, a warning for a
  // run.
  bool no_effect = false;
  bool unknown_key = false;  // what has no effect because no key has this name here

  std::string text() const;  // "line 4: source.folders: ..."
};

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
