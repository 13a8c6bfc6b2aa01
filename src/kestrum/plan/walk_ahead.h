// A walk on a thread of its own, ahead of whoever asks for what it finds.
#pragma once

#include <functional>
#include <memory>
#include <optional>
#include <vector>

#include "kestrum/base/ahead.h"
#include "kestrum/plan/change_detector.h"
#include "kestrum/select/walk.h"

namespace kestrum {

// Its calls come from one thread. Short walks are over before a thread would be worth its while:
// the first few thousand events are taken as they are asked for.
class WalkAhead {
 public:
  // Whether the content of a regular file is worth reading ahead; asked on the other thread. May be
  // empty: of none. Nobody else moves `walk` from now on.
  using Wanted = std::function<bool(const WalkEvent&)>;
  WalkAhead(Walk& walk, Wanted wanted);

  // The next event in path order; false at the end. Throws what the walk throws.
  bool next(WalkEvent& event);

 private:
  bool walk(Ahead<WalkEvent>::Batch& batch);

  Walk& walk_;
  Wanted wanted_;
  UnsureFiles unsure_;
  std::size_t taken_ = 0;  // before there is a thread
  std::optional<Ahead<WalkEvent>> ahead_;
};

// Reads a small file whole. Nothing if it is not one, has holes, changes meanwhile or cannot be
// read: whoever takes its turn finds out what it is.
std::shared_ptr<const FileAhead> read_ahead(const WalkEvent& event, UnsureFiles& unsure);

}  // namespace kestrum
