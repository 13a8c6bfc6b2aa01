// The moments at which a job's phrases fall due.
#pragma once

#include <optional>
#include <vector>

#include "kestrum/schedule/phrase.h"

namespace kestrum {

class Timetable {
 public:
  // `offset` is added to every moment: the job's share of its `spread`.
  Timetable(std::vector<Phrase> phrases, Zone zone, Nanos offset = 0);

  // The first moment after `time`; nothing if there is none.
  std::optional<Nanos> next_after(Nanos time) const;
  // The last moment not later than `time`.
  std::optional<Nanos> last_until(Nanos time) const;
  // How many lie after `from` and not after `to`; counting ends at `limit`.
  std::uint64_t count(Nanos from, Nanos to, std::uint64_t limit) const;

  // Whether anything falls due by the clock.
  bool timed() const;
  // The least time between runs of "when files change"; nothing if no phrase says so.
  std::optional<Nanos> when_files_change() const;
  const std::vector<Phrase>& phrases() const { return phrases_; }

 private:
  std::optional<Nanos> next_of(const Phrase& phrase, Nanos time) const;
  std::optional<Nanos> last_of(const Phrase& phrase, Nanos time) const;
  std::vector<Phrase> phrases_;
  Zone zone_;
  Nanos offset_;
};

}  // namespace kestrum
