#include "kestrum/schedule/change_timer.h"

#include <algorithm>

#include "kestrum/schedule/due.h"

namespace kestrum {

void ChangeTimer::changed(Nanos now) {
  if (first_change_ == 0) first_change_ = now;
  last_change_ = now;
}

bool ChangeTimer::wants_look(Nanos now, bool deaf) const {
  return looked_ == 0 || (deaf && now - looked_ >= pause_);
}

std::optional<Nanos> ChangeTimer::due() const {
  if (first_change_ == 0) return std::nullopt;
  Nanos quiet =
      std::min(last_change_ + kQuietAfterChange, first_change_ + std::max(pause_, kMinute));
  Nanos due = started_ == 0 ? quiet : std::max(quiet, started_ + pause_);
  return std::max(due, not_before_);
}

void ChangeTimer::began(Nanos now) {
  started_ = now;
  first_change_ = last_change_ = 0;
}

void ChangeTimer::ended(Nanos now, bool made_set) {
  failures_ = made_set ? 0 : failures_ + 1;
  if (made_set) return;
  changed(now);
  not_before_ = now + pause_after(failures_);
}

}  // namespace kestrum
