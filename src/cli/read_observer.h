// The observer of commands that read: a progress line and notes on standard error.
#pragma once

#include "context.h"
#include "kestrum/base/text.h"
#include "progress_line.h"

namespace kestrum::cli {

class ReadObserver : public Observer {
 public:
  explicit ReadObserver(const Context& context) : context_(context), line_(context.quiet) {}
  void progress(const Progress& progress) override { line_.show(progress); }
  void note(const std::string& text) override {
    line_.clear();
    if (!context_.quiet) context_.tell(printable(text));
  }
  void end() { line_.clear(); }

 private:
  const Context& context_;
  ProgressLine line_;
};

}  // namespace kestrum::cli
