// When a job that follows changes is due. Pure decisions: moments in, moments out, of a clock that
// only goes on (steady_now()).
#pragma once

#include <optional>

#include "kestrum/base/nanos.h"

namespace kestrum {

// A change is acted on when nothing has changed for so long, or when it is as old as the pause
// between two runs.
inline constexpr Nanos kQuietAfterChange = 5 * kSecond;
// What a run waits for, such as a disk, is looked for again so often; so are edited job files.
inline constexpr Nanos kLookAgain = 30 * kSecond;

class ChangeTimer {
 public:
  // `pause`: at least so long from the start of one run to the next.
  explicit ChangeTimer(Nanos pause) : pause_(pause) {}

  void changed(Nanos now);
  // Whether the folders are to be compared with the newest set: at the start, and once a pause
  // where `deaf`, that is, where changes may go unheard.
  bool wants_look(Nanos now, bool deaf) const;
  void looked(Nanos now) { looked_ = now; }

  // When a run is due; nothing if nothing has changed.
  std::optional<Nanos> due() const;
  void began(Nanos now);
  // A run that made no set is tried again, later each time.
  void ended(Nanos now, bool made_set);
  // What the run needs is not there.
  void waits(Nanos now) { not_before_ = now + kLookAgain; }

 private:
  Nanos pause_;
  Nanos first_change_ = 0, last_change_ = 0, started_ = 0, looked_ = 0, not_before_ = 0;
  unsigned failures_ = 0;
};

}  // namespace kestrum
