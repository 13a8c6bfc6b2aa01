#include "kestrum/plan/change_tally.h"

#include <unistd.h>

#include <algorithm>
#include <array>

namespace kestrum {

ChangeTally::ChangeTally(Index& index, std::optional<SetId> compared) : index_(index) {
  if (!compared) return;
  auto newest = index.newest();
  if (newest && newest->set != *compared) newest_ = newest->set;
}

void ChangeTally::known(const IndexEntry& old) {
  counts_.known += old.line.entry.type != EntryType::kFolder;
}

void ChangeTally::changed(const IndexEntry& old, const IndexEntry& now, int fd) {
  if (!now.line.digest || now.line.digest == old.line.digest) return;
  if (newest_) {
    auto last = index_.find(*newest_, now.line.entry.path);
    if (last && last->line.digest == now.line.digest) return;
  }
  ++counts_.changed;
  std::array<std::uint8_t, kNoiseHead> head;
  ssize_t length = ::pread(fd, head.data(), head.size(), 0);
  if (length > 0 && looks_like_noise({head.data(), static_cast<std::size_t>(length)})) {
    ++counts_.noise;
  }
}

void ChangeTally::gone(const IndexEntry& old) {
  if (old.line.entry.type == EntryType::kFolder) return;
  if (newest_ && !index_.find(*newest_, old.line.entry.path)) return;
  ++counts_.gone;
}

void ChangeTally::moved(std::uint64_t files) {
  counts_.gone -= std::min(counts_.gone, files);
}

}  // namespace kestrum
