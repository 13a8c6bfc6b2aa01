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
  std::string text(const Progress& progress, Nanos elapsed) const;
  bool quiet_, terminal_;
  bool shown_ = false;
  Nanos started_ = 0, last_ = 0;
  std::string phase_;
};

}  // namespace kestrum::cli
