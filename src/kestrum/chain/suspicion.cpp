#include "kestrum/chain/suspicion.h"

#include <fmt/format.h>

#include <algorithm>
#include <array>
#include <string_view>

#include "kestrum/base/text.h"
#include "kestrum/base/units.h"

namespace kestrum {
namespace {

constexpr std::size_t kLeastHead = 1024;
// Chi squared of 256 equally likely bytes has mean 255 and deviation 22.6: random bytes stay below
// this but once in some ten thousand times.
constexpr double kEven = 345;

// Formats whose content is compressed, and so nearly as even, by how their files begin.
constexpr std::array<std::string_view, 19> kFormats = {"PK",
                                                       "\x1f\x8b",
                                                       "BZh",
                                                       "\xfd"
                                                       "7zXZ",
                                                       "7z\xbc",
                                                       "\x28\xb5\x2f\xfd",
                                                       "Rar!",
                                                       "\xff\xd8\xff",
                                                       "\x89PNG",
                                                       "GIF8",
                                                       "RIFF",
                                                       "OggS",
                                                       "fLaC",
                                                       "ID3",
                                                       "\xff\xfb",
                                                       "%PDF",
                                                       "\x1a\x45",
                                                       "age-encryption",
                                                       "wOF2"};

}  // namespace

std::optional<std::string> suspicion(const ChangeCounts& counts, unsigned percent,
                                     bool accept_empty) {
  if (!accept_empty && !counts.emptied.empty()) {
    return printable(counts.emptied[0]) + " held files and is empty now" +
           (counts.emptied.size() == 1
                ? std::string()
                : fmt::format(", and {} more", counted(counts.emptied.size() - 1, "folder")));
  }
  if (counts.known < kFewestKnown) return std::nullopt;
  std::uint64_t touched = counts.changed + counts.gone;
  std::uint64_t weight = std::min(counts.known, touched + (kNoiseWeight - 1) * counts.noise);
  if (weight * 100 <= counts.known * percent) return std::nullopt;
  std::string text =
      fmt::format("{} of {} known files changed, {} are gone", format_count(counts.changed),
                  format_count(counts.known), format_count(counts.gone));
  if (counts.noise > 0) {
    text += fmt::format("; {} look like noise now, as encrypted files do",
                        counts.noise == counts.changed ? "those" : format_count(counts.noise));
  }
  return text;
}

bool looks_like_noise(ByteView head) {
  if (head.size() < kLeastHead) return false;
  std::string_view text(reinterpret_cast<const char*>(head.data()), head.size());
  for (std::string_view format : kFormats) {
    if (text.starts_with(format)) return false;
  }
  if (text.substr(4, 4) == "ftyp") return false;  // films and sound
  std::array<std::uint32_t, 256> seen{};
  for (std::uint8_t byte : head) ++seen[byte];
  double expected = static_cast<double>(head.size()) / 256, chi = 0;
  for (std::uint32_t count : seen) {
    double off = count - expected;
    chi += off * off / expected;
  }
  return chi < kEven;
}

}  // namespace kestrum
