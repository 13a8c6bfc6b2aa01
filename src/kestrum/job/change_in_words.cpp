#include "kestrum/job/change_in_words.h"

#include <tuple>

namespace kestrum {

std::string change_in_words(const Job& before, const Job& after) {
  if (before.encrypted != after.encrypted) {
    return "protection changed: shelves keep theirs; start a shelf on another disk for the new one";
  }
  bool folders = before.folders != after.folders;
  auto rules = [](const Job& job) {
    return std::tuple(job.rules.leave_out, job.rules.leave_out_litter, job.rules.only,
                      job.rules.bigger_than, job.rules.smaller_than, job.rules.changed_within,
                      job.rules.other_filesystems);
  };
  if (folders || rules(before) != rules(after)) {
    return "the chain goes on: what is new is copied at the next run, what is not taken any more "
           "is "
           "left out of it and stays in earlier sets";
  }
  if (before.level != after.level || before.part_size != after.part_size) {
    return "the chain goes on: sets to come are packed the new way";
  }
  if (before.values.at("chain.kind") != after.values.at("chain.kind") ||
      before.values.at("chain.new_full") != after.values.at("chain.new_full")) {
    return "the chain goes on, and ends by the new rule";
  }
  if (before.keep.keep_for != after.keep.keep_for || before.keep.chains != after.keep.chains ||
      before.values.at("keep.thin") != after.values.at("keep.thin")) {
    return "the new promises hold from the next run on: kestrum prune " + after.name +
           " --rehearse";
  }
  return "";
}

}  // namespace kestrum
