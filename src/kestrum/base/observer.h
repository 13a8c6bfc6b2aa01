// How an operation tells what it is doing. The terminal and the log are two observers.
#pragma once

#include <cstdint>
#include <functional>
#include <string>

#include "kestrum/base/clock.h"

namespace kestrum {

struct Progress {
  std::string phase;                              // "copying", "verifying", ...
  std::uint64_t files_done = 0, files_total = 0;  // 0 in total: not known
  std::uint64_t bytes_done = 0, bytes_total = 0;
  std::string current;  // path
  // Bytes of that file, where it is worth telling how far it is; 0: it is not.
  std::uint64_t current_done = 0, current_total = 0;
};

// Called by one thread at a time, which need not always be the same one.
class Observer {
 public:
  virtual ~Observer() = default;
  // Called often; observers take what they need.
  virtual void progress(const Progress&) {}
  // Whether totals are worth a second walk.
  virtual bool wants_totals() const { return false; }
  // Something about one path that did not stop the operation.
  virtual void warning(const std::string& path, const std::string& reason) {
    (void)path, (void)reason;
  }
  // A sentence about the operation.
  virtual void note(const std::string& text) { (void)text; }
  // The same, for the log alone.
  virtual void log(const std::string& text) { (void)text; }
  // Whether each file is to be told of, and what became of one: "copied", "same content", "gone",
  // "left out". `path` is absolute, `bytes` its size.
  virtual bool wants_files() const { return false; }
  virtual void file(const char* what, const std::string& path, std::uint64_t bytes) {
    (void)what, (void)path, (void)bytes;
  }
};

// Asked at every file and block; true stops the operation in order with Error(kStopped).
using StopRequest = std::function<bool()>;

}  // namespace kestrum
