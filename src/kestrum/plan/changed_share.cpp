#include "kestrum/plan/changed_share.h"

#include <algorithm>
#include <optional>
#include <random>
#include <set>
#include <unordered_set>

#include "kestrum/archive/stretches.h"
#include "kestrum/select/source_file.h"

namespace kestrum {
namespace {

constexpr std::uint64_t kWindow = 1 << 20;
constexpr std::size_t kMostKnown = 4'000'000;  // stretches: of some 250 GB

// By the first half of their digests.
using KnownStretches = std::unordered_set<std::uint64_t>;

void add_stretches_of(Index& index, SetId set, std::uint64_t entry, KnownStretches& known) {
  std::uint64_t at = 0;
  while (known.size() < kMostKnown) {
    auto list = index.stretches_at(set, entry, at);
    if (!list) return;
    for (const Stretch& stretch : list->stretches) known.insert(get_le64(stretch.digest.data()));
    at = list->end();
  }
}

KnownStretches known_of(Index& index, const ContentLocation& location) {
  KnownStretches known;
  std::set<std::pair<std::int64_t, std::uint64_t>> entries;
  if (location.ranges.empty()) add_stretches_of(index, location.set, location.tar_offset, known);
  for (const ContentRange& range : location.ranges) {
    if (range.hole || !range.set) continue;
    if (!entries.emplace(range.set->sequence(), range.entry).second) continue;
    add_stretches_of(index, *range.set, range.entry, known);
  }
  return known;
}

// The share of what is not known; nothing if no stretch is. Where the first stretches begin is a
// guess, but for the file's own beginning: what comes before the first that is known is left out.
std::optional<double> unknown_share(ByteView content, bool from_beginning,
                                    const KnownStretches& known) {
  std::uint64_t seen = 0, fresh = 0;
  bool in_step = from_beginning;
  while (!content.empty()) {
    std::size_t length = first_stretch(content);
    if (length == content.size() && length < kLongestStretch && !from_beginning) break;
    bool is_known = known.contains(get_le64(stretch_digest(content.first(length)).data()));
    in_step |= is_known;
    if (in_step) seen += length;
    if (in_step && !is_known) fresh += length;
    content = content.subspan(length);
  }
  if (seen == 0) return std::nullopt;
  return static_cast<double>(fresh) / static_cast<double>(seen);
}

// Of a window. Some guesses never come into step with the file's stretches.
double unknown_in_window(ByteView content, const KnownStretches& known) {
  for (std::size_t skipped : {0, 13, 29, 47, 71}) {
    std::size_t begin = std::min(content.size(), skipped << 10);
    if (auto share = unknown_share(content.subspan(begin), false, known)) return *share;
  }
  return 1;
}

}  // namespace

std::uint64_t new_bytes(int fd, std::uint64_t size, const IndexEntry& old, const RunPlan& plan,
                        Index& index, const std::function<void()>& check_stop) {
  auto location = index.location_of(old.version, plan.ancestors);
  if (!location) return size;
  KnownStretches known = known_of(index, *location);
  if (known.empty()) return size;
  Bytes content;
  auto read = [&](std::uint64_t at, std::uint64_t length) {
    check_stop();
    content.resize(length);
    ssize_t n = read_some(fd, at, content);
    content.resize(static_cast<std::size_t>(std::max<ssize_t>(0, n)));
  };
  if (size <= kLookedAt / 2) {
    read(0, size);
    return static_cast<std::uint64_t>(unknown_share(content, true, known).value_or(1) *
                                      static_cast<double>(content.size()));
  }
  // One window in each part of the file, somewhere, and its end, where most that is new comes.
  std::uint64_t windows = std::min(size / kWindow, kLookedAt / kWindow), part = size / windows;
  std::mt19937_64 random(size);
  double share = 0;
  for (std::uint64_t i = 0; i < windows; ++i) {
    std::uint64_t room = part - std::min(part, kWindow);
    read(i * part + (room == 0 ? 0 : random() % room), std::min(kWindow, part));
    share += unknown_in_window(content, known);
  }
  std::uint64_t grown = size - std::min(size, old.line.entry.size);
  auto changed =
      static_cast<std::uint64_t>(share / static_cast<double>(windows) * static_cast<double>(size));
  return std::min(size, std::max(grown, changed));
}

}  // namespace kestrum
