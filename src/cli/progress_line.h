// Progress for people: one line that is rewritten on a terminal, a plain line every few seconds
// elsewhere, on standard error.
#pragma once

#include <string>

#include "kestrum/base/observer.h"

namespace kestrum::cli {

class ProgressLine {
 public:
  explicit ProgressLine(bool quiet);
  ~ProgressLine() { clear(); }

  bool is_live() const { return terminal_ && !quiet_; }
  void show(const Progress& progress);
  // Takes the line away, so that something else can be printed.
  void clear();

 private:
  std::string text(const Progress& progress, Nanos elapsed);
  bool quiet_, terminal_;
  bool shown_ = false;
  Nanos started_ = 0, last_ = 0;
  std::string phase_;
  // Of the phase: how much was shown to be done, from 0 to 1, and the seconds left as they were
  // told last, so long after it began.
  double share_ = 0, left_ = 0;
  Nanos left_at_ = 0;
};

}  // namespace kestrum::cli
