// Whether a set is suspect: more of what was known changed or vanished than a day's work explains.
// Pure decisions: values in, values out.
#pragma once

#include <cstdint>
#include <optional>
#include <string>
#include <vector>

#include "kestrum/base/bytes.h"
#include "kestrum/chain/set_id.h"

namespace kestrum {

// What became, since the newest restore point, of the files that it holds.
struct ChangeCounts {
  std::uint64_t known = 0;
  std::uint64_t changed = 0;  // other content under the same path
  // That look like noise now and did not: changed, or gone while a noisy file came in its folder.
  std::uint64_t noise = 0;
  std::uint64_t gone = 0;            // and did not turn up under another path
  std::vector<std::string> emptied;  // folders of the job that held files and hold none now
};

// Below so many known files no share says anything.
inline constexpr std::uint64_t kFewestKnown = 20;
// A file that turned into noise counts as so many changed ones.
inline constexpr std::uint64_t kNoiseWeight = 4;

// Of a set that is still there: what turned into noise since.
struct NoiseShare {
  SetId set;
  std::uint64_t turned = 0;  // files that were not noise there, and are now
  std::uint64_t files = 0;   // that were not noise there
};

// From so many files on, and such a share of those that a set holds (percent), it is no
// coincidence.
inline constexpr std::uint64_t kFewestTurned = 5;
inline constexpr std::uint64_t kTurnedShare = 20;

// The set of which the largest share turned, if that is too much; nothing otherwise. However many
// runs it took: plain changes never add up, this does.
std::optional<NoiseShare> creeping_noise(const std::vector<NoiseShare>& shares);

// How many turned since `set`.
std::uint64_t turned_since(const std::vector<NoiseShare>& shares, SetId set);

struct SuspicionLimits {
  unsigned percent = 40;  // the share of changed and gone that is still usual; 100: any, noise too
  bool accept_empty = false;  // folders may have been emptied
};

// Why a set is suspect, in words; nothing if it is not.
std::optional<std::string> suspicion(const ChangeCounts& counts,
                                     const std::vector<NoiseShare>& shares,
                                     const SuspicionLimits& limits);

// Whether content that begins so is as even as random bytes and no known file format: what
// encrypted files look like. False for less than kLeastHead bytes, which
// cannot tell.
bool looks_like_noise(ByteView head);
inline constexpr std::size_t kLeastHead = 256;
inline constexpr std::size_t kNoiseHead = 16 << 10;  // bytes that are best given

}  // namespace kestrum
