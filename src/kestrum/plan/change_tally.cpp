#include "kestrum/plan/change_tally.h"

#include <unistd.h>

#include <algorithm>
#include <array>

#include "kestrum/base/file.h"

namespace kestrum {

ChangeTally::ChangeTally(Index& index, std::optional<SetId> compared,
                         std::vector<std::string> released)
    : index_(index), released_(std::move(released)) {
  if (!compared) return;
  auto newest = index.newest();
  if (newest && newest->set != *compared) newest_ = newest->set;
}

void ChangeTally::known(const IndexEntry& old) {
  counts_.known += old.line.entry.type != EntryType::kFolder;
}

void ChangeTally::changed(const IndexEntry& old, const IndexEntry& now) {
  if (!now.line.digest || now.line.digest == old.line.digest) return;
  if (newest_) {
    auto last = index_.find(*newest_, now.line.entry.path);
    if (last && last->line.digest == now.line.digest) return;
  }
  ++counts_.changed;
}

void ChangeTally::changed(const IndexEntry& old, const struct stat& now) {
  auto as_now = [&](const IndexEntry& known) {
    return known.line.entry.size == static_cast<std::uint64_t>(now.st_size) &&
           known.line.entry.mtime == FileTime(now.st_mtim);
  };
  if (as_now(old)) return;
  if (newest_) {
    auto last = index_.find(*newest_, old.line.entry.path);
    if (last && as_now(*last)) return;
  }
  ++counts_.changed;
}

void ChangeTally::gone(const IndexEntry& old) {
  if (old.line.entry.type == EntryType::kFolder) return;
  if (newest_ && !index_.find(*newest_, old.line.entry.path)) return;
  bool told = is_within_one("/" + old.line.entry.path, released_);
  ++(told ? gone_as_told_ : counts_.gone);
}

void ChangeTally::moved(std::uint64_t files) {
  files -= std::min(files, gone_as_told_);  // which of them moved is not known here
  counts_.gone -= std::min(counts_.gone, files);
}

bool begins_like_noise(int fd) {
  std::array<std::uint8_t, kNoiseHead> head;
  ssize_t length = ::pread(fd, head.data(), head.size(), 0);
  return length > 0 && looks_like_noise({head.data(), static_cast<std::size_t>(length)});
}

std::optional<std::string> suspicion_of(ChangeCounts counts, const RunPlan& plan, Index& index,
                                        NoiseCount& noise, const SuspicionLimits& limits) {
  std::vector<NoiseShare> shares = noise.shares(plan.noise_since);
  if (auto newest = index.newest()) counts.noise = turned_since(shares, newest->set);
  return suspicion(counts, shares, limits);
}

}  // namespace kestrum
