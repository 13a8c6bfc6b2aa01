// Where stretches of a file that is being stored may lie already.
#pragma once

#include <cstdint>
#include <optional>
#include <unordered_map>
#include <vector>

#include "kestrum/archive/stretches.h"
#include "kestrum/machine/index.h"
#include "kestrum/plan/run_plan.h"

namespace kestrum {

// A stretch that is held, and where; the range's length is the stretch's.
struct HeldStretch {
  Stretch stretch;
  ContentRange place;
};

// Held stretches in the order of some content, of which a window is in memory. Used by one thread.
class StretchTrail {
 public:
  // What lies in `damaged` is passed by. Both outlive the trail.
  StretchTrail(Index& index, const DamagedContent& damaged) : index_(index), damaged_(damaged) {}

  // Along the content of a version.
  void follow(std::vector<ContentRange> ranges);
  // From a place on: along the content of a version that lies there, or else to the end of that
  // set's tar.
  void follow_from(const ContentRange& place);
  // The next one, or nothing; advance() goes behind it.
  const HeldStretch* next();
  void advance() { ++at_; }
  // Within the window, nearest behind the last one that was found; the trail goes on behind it.
  const HeldStretch* find(const Stretch& stretch);

 private:
  void clear();
  void refill();
  bool load();
  bool load_ranges();
  bool load_tail();
  void take(const StretchList& list, std::optional<SetId> set, std::uint64_t from,
            std::uint64_t until);
  static std::uint64_t key_of(const Stretch& stretch);

  Index& index_;
  const DamagedContent& damaged_;
  std::vector<HeldStretch> window_;
  std::size_t at_ = 0;
  bool ended_ = true;
  std::unordered_map<std::uint64_t, std::size_t> by_digest_;  // to places in the window
  // What is still to come: ranges, from one of them and a place in it on; or what lies behind a
  // list.
  std::vector<ContentRange> ranges_;
  std::size_t range_ = 0;
  std::uint64_t in_range_ = 0;
  std::optional<SetId> tail_;
  StretchList last_;               // that was loaded
  std::optional<SetId> last_set_;  // its set
};

// Looks for stretches in the version that the file was, then in what this set holds, then anywhere
// in the sets that it is based on.
class StretchSource {
 public:
  StretchSource(Index& index, const RunPlan& plan);

  // Of the version that the file most likely still is, if there is one.
  void follow(std::vector<ContentRange> ranges) { trails_[0].trail.follow(std::move(ranges)); }
  // What should come next, if nothing was changed here; nothing where nobody can say.
  const HeldStretch* expected();
  void took_expected();
  // Where this one lies; nothing if it is new.
  std::optional<ContentRange> find(const Stretch& stretch);

 private:
  // An edit leads away to where one stretch lies, and what comes behind it is where it was before:
  // trails that led far are kept.
  struct Trail {
    StretchTrail trail;
    std::uint64_t found = 0;  // on it, lately
  };
  Trail& least_used();

  Index& index_;
  const RunPlan& plan_;
  std::vector<Trail> trails_;  // the first along the version
  Trail* last_;                // on which the last was found; nothing after one that was new
};

// All that is listed of a tar entry; without a set, of the one that is being written.
ContentRange whole_entry(std::optional<SetId> set, std::uint64_t tar_offset);

// The ranges of a version whose content lies somewhere.
std::vector<ContentRange> ranges_of(const ContentLocation& location);

}  // namespace kestrum
