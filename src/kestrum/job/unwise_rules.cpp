#include "kestrum/job/unwise_rules.h"

#include "kestrum/base/text.h"

namespace kestrum {
namespace {

Nanos least_length(ThinRule::Unit unit) {
  constexpr Nanos kLengths[] = {kDay, 7 * kDay, 28 * kDay, 365 * kDay};
  return kLengths[static_cast<int>(unit)];
}

}  // namespace

std::vector<JobProblem> unwise_rules(const Job& job) {
  std::vector<JobProblem> problems;
  auto unwise = [&](const char* key, const std::string& message) {
    problems.push_back({false, key, 0, message});
  };
  bool prunes = prunes_by_itself(job.when_full),
       never = job.new_full.when == NewFullRule::When::kNever;
  std::string rule = lower_ascii(std::get<std::string>(job.values.at("chain.new_full")));
  if (job.follows_full == SetKind::kFull) {
    if (rule != "after 13 sets") {
      unwise("chain.new_full", "has no effect: every set is full (chain.kind)");
    }
  } else if (never && prunes) {
    unwise("chain.new_full",
           "\"never\" ends no chain, so no set is ever released and the disk fills up; a rule such "
           "as \"every 4 weeks\", or when_full = \"stop\"");
  } else if (rule.find(job.follows_full == SetKind::kIncremental
                           ? "differential"
                           : "incremental") != std::string::npos) {
    unwise("chain.new_full", std::string("counts another kind than chain.kind = \"") +
                                 kind_name(job.follows_full) + "\"; every set is counted");
  }
  for (const ThinRule& thin : job.keep.thin) {
    if (least_length(thin.unit) * thin.count <= job.keep.keep_for) {
      unwise("keep.thin", "\"" + thin.text() + "\" has no effect: \"for\" keeps all of that time");
    }
  }
  if (job.keep.keep_for < kDay) {
    unwise("keep.for", "keeps restore points for less than a day");
  }
  if (job.at_most && !prunes) {
    unwise("keep.at_most", std::string("nothing acts on it while when_full is \"") +
                               (job.when_full == WhenFull::kAsk ? "ask\"" : "stop\""));
  }
  if (job.suspect_percent == 0) {
    unwise("report.suspect_above", "makes every set suspect, and then nothing is pruned");
  }
  return problems;
}

}  // namespace kestrum
