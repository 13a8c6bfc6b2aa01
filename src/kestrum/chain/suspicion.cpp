#include "kestrum/chain/suspicion.h"

#include <fmt/format.h>

#include <algorithm>
#include <array>
#include <string_view>

#include "kestrum/base/text.h"
#include "kestrum/base/units.h"

namespace kestrum {
namespace {

// What is told from so much already, is mostly told right.
constexpr std::size_t kFirstLook = 1024;
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

bool is_even(ByteView bytes) {
  std::array<std::uint32_t, 256> seen{};
  for (std::uint8_t byte : bytes) ++seen[byte];
  double expected = static_cast<double>(bytes.size()) / 256, chi = 0;
  for (std::uint32_t count : seen) {
    double off = count - expected;
    chi += off * off / expected;
  }
  return chi < kEven;
}

std::optional<std::string> unusual_share(const ChangeCounts& counts, unsigned percent) {
  if (counts.known < kFewestKnown) return std::nullopt;
  std::uint64_t touched = counts.changed + counts.gone;
  std::uint64_t weight = std::min(counts.known, touched + (kNoiseWeight - 1) * counts.noise);
  if (weight * 100 <= counts.known * percent) return std::nullopt;
  std::string text =
      fmt::format("{} of {} known files changed, {} are gone", format_count(counts.changed),
                  format_count(counts.known), format_count(counts.gone));
  if (counts.noise > 0) {
    text +=
        fmt::format("; {} look like noise now, as encrypted files do", format_count(counts.noise));
  }
  return text;
}

}  // namespace

std::optional<NoiseShare> creeping_noise(const std::vector<NoiseShare>& shares) {
  std::optional<NoiseShare> worst;
  for (const NoiseShare& share : shares) {
    if (share.turned < kFewestTurned || share.turned * 100 < share.files * kTurnedShare) continue;
    if (!worst || share.turned * worst->files > worst->turned * share.files) worst = share;
  }
  return worst;
}

std::uint64_t turned_since(const std::vector<NoiseShare>& shares, SetId set) {
  auto share =
      std::find_if(shares.begin(), shares.end(), [&](const NoiseShare& s) { return s.set == set; });
  return share == shares.end() ? 0 : share->turned;
}

std::optional<std::string> suspicion(const ChangeCounts& counts,
                                     const std::vector<NoiseShare>& shares,
                                     const SuspicionLimits& limits) {
  if (!limits.accept_empty && !counts.emptied.empty()) {
    return printable(counts.emptied[0]) + " held files and is empty now" +
           (counts.emptied.size() == 1
                ? std::string()
                : fmt::format(", and {} more", counted(counts.emptied.size() - 1, "folder")));
  }
  if (limits.percent >= 100) return std::nullopt;
  if (auto text = unusual_share(counts, limits.percent)) return text;
  auto noise = creeping_noise(shares);
  if (!noise) return std::nullopt;
  return fmt::format("{} of the {} files of {} look like noise by now, as encrypted files do",
                     format_count(noise->turned), format_count(noise->files),
                     noise->set.to_string());
}

bool looks_like_noise(ByteView head) {
  if (head.size() < kLeastHead) return false;
  std::string_view text(reinterpret_cast<const char*>(head.data()), head.size());
  for (std::string_view format : kFormats) {
    if (text.starts_with(format)) return false;
  }
  if (text.substr(4, 4) == "ftyp") return false;  // films and sound
  return is_even(head.first(std::min(head.size(), kFirstLook))) && is_even(head);
}

}  // namespace kestrum
