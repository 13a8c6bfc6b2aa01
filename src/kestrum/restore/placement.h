// Where a restored entry goes when something may have its name already.
#pragma once

#include <functional>
#include <optional>
#include <string>

#include "kestrum/archive/entry.h"
#include "kestrum/restore/restore_request.h"
#include "kestrum/restore/target_mapping.h"

namespace kestrum {

// What was decided for one entry.
struct Placement {
  TargetPath at;
  bool replace = false;  // it takes the place of what is there
  // Why it is skipped; empty: it is not. Then `at` says only what is shown.
  std::string skip;
  bool already_right = false;  // skipped, since what is there has the same content
};

class Placer {
 public:
  // What is given is kept by reference and outlives it.
  Placer(const RestoreRequest& request, TargetMapping& targets)
      : request_(request), targets_(targets) {}

  // For anything but a folder. `same` tells whether what is there has the entry's content.
  Placement place(const Entry& entry, const std::function<bool(const TargetPath&)>& same);
  // What the rules, or whoever is asked, say of an entry where `st` is there already.
  Clash decide(const Entry& entry, const TargetPath& at, const struct stat& st);
  // A name beside `at` that nothing but a folder has.
  TargetPath free_beside(const TargetPath& at) const;

 private:
  const RestoreRequest& request_;
  TargetMapping& targets_;
};

}  // namespace kestrum
