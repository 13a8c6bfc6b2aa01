// Whether a set is suspect: more of what was known changed or vanished than a day's work explains.
// Pure decisions: values in, values out.
#pragma once

#include <cstdint>
#include <optional>
#include <string>
#include <vector>

#include "kestrum/base/bytes.h"

namespace kestrum {

// What became, since the newest restore point, of the files that it holds.
struct ChangeCounts {
  std::uint64_t known = 0;
  std::uint64_t changed = 0;         // other content under the same path
  std::uint64_t noise = 0;           // of the changed: content that looks like noise now
  std::uint64_t gone = 0;            // and did not turn up under another path
  std::vector<std::string> emptied;  // folders of the job that held files and hold none now
};

// Below so many known files no share says anything.
inline constexpr std::uint64_t kFewestKnown = 50;
// A file that turned into noise counts as so many changed ones.
inline constexpr std::uint64_t kNoiseWeight = 4;

// Why a set is suspect, in words; nothing if it is not. `percent` is the share that is still usual,
// 100 for any.
std::optional<std::string> suspicion(const ChangeCounts& counts, unsigned percent,
                                     bool accept_empty);

// Whether content that begins so is as even as random bytes and no known file format: what
// encrypted files look like. False for less than 1 KiB, which cannot tell.
bool looks_like_noise(ByteView head);
inline constexpr std::size_t kNoiseHead = 16 << 10;  // bytes that are best given

}  // namespace kestrum
