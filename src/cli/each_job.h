// A command for one job, or with --all for every job of this PC.
#pragma once

#include <functional>
#include <string>

#include "args.h"
#include "context.h"

namespace kestrum::cli {

// What a command answers for one job.
struct JobAnswer {
  int exit = 0;
  Json json;  // its document
};

// `answer` gets the arguments as if NAME had been typed. Of one job its document is printed, of all
// {"jobs": [...]}, in which an error stands where a job's document would; each is told, and the
// others go on. Throws Error(kUsage), and of one job what `answer` throws.
int for_each_job(const Context& context, const Args& args, const std::string& usage,
                 const std::function<JobAnswer(const Args&)>& answer);

}  // namespace kestrum::cli
