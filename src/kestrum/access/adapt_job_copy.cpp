#include "kestrum/access/adapt_job_copy.h"

#include <algorithm>
#include <map>

#include "kestrum/base/error.h"
#include "kestrum/base/file.h"
#include "kestrum/job/edit_key.h"
#include "kestrum/job/job_file.h"
#include "kestrum/job/job_keys.h"

namespace kestrum {

AdaptedJob adapt_job_copy(const std::string& copy, const AdaptTo& to) {
  ParsedJob parsed = parse_job(to.job, copy);
  AdaptedJob result;
  result.before = parsed.job.before_run.text;
  result.after = parsed.job.after_run.text;
  for (const auto& folder :
       std::get<std::vector<std::string>>(parsed.job.values.at("source.folders"))) {
    result.folders.push_back(mapped(to.map, folder));
  }
  std::map<std::string, KeyValue> meant = parsed.job.values;
  for (const char* key :
       {"before_run.command", "after_run.command", "protection.passphrase_from"}) {
    meant[key] = std::string();
  }
  meant["destination.places"] = std::vector<std::string>{to.place};
  meant["source.folders"] = result.folders;
  result.text = copy;
  for (const auto& [key, value] : meant) {
    if (value != parsed.job.values.at(key)) result.text = edit_key(result.text, key, value);
  }
  ParsedJob adapted = parse_job(to.job, result.text);
  result.had_unknown_keys =
      std::any_of(adapted.problems.begin(), adapted.problems.end(),
                  [](const JobProblem& problem) { return problem.unknown_key; });
  if (result.had_unknown_keys) {
    result.text = render_job(meant);
    adapted = parse_job(to.job, result.text);
  }
  if (!adapted.usable() || adapted.job.values != meant) {
    throw Error(ErrorKind::kDamage,
                to.shelf + ": the copy of the job does not read as it was meant to here",
                "somebody may have made it so; nothing was taken over")
        .about_path(to.shelf);
  }
  return result;
}

}  // namespace kestrum
