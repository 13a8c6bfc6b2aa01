// The rules that are only about files which the chain does not hold yet: changed_within,
// bigger_than, smaller_than. What is held already stays in, under its name or a new one.
#pragma once

#include "kestrum/machine/index.h"
#include "kestrum/plan/run_plan.h"
#include "kestrum/select/walk.h"

namespace kestrum {

class NewFileRules {
 public:
  // What is given is kept by reference and outlives it.
  NewFileRules(const Selection& selection, Index& index, const RunPlan& plan, Nanos now)
      : selection_(selection), index_(index), plan_(plan), now_(now) {}

  // The rule that keeps a regular file out, which was known as `old` or was not; kTaken if none
  // does. Where nothing is known of what is held, nothing counts as new.
  Rule refuses(const WalkEvent& event, const IndexEntry* old) const;
  // Whether what such a rule leaves out is taken all the same, since it is held under another name.
  bool holds(const WalkEvent& event) const {
    return event.only_if_new() && refuses(event, nullptr) == Rule::kTaken;
  }

 private:
  const Selection& selection_;
  Index& index_;
  const RunPlan& plan_;
  Nanos now_;
};

}  // namespace kestrum
