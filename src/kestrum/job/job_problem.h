// What is wrong in a job file.
#pragma once

#include <string>

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

}  // namespace kestrum
