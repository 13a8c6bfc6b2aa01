#include "kestrum/restore/disk_passes.h"

#include <algorithm>

#include "kestrum/base/text.h"

namespace kestrum {
namespace {

bool all_seen(const std::set<std::uint64_t>& disks, const std::set<std::uint64_t>& seen) {
  return std::includes(seen.begin(), seen.end(), disks.begin(), disks.end());
}

}  // namespace

DiskPasses::DiskPasses(const OpenShelf& open, std::span<const Identity> identities,
                       std::vector<std::string> folders, StopRequest stop)
    : open_(open),
      identities_(identities),
      stop_(std::move(stop)),
      spool_(std::move(folders)),
      here_(open.earlier->plugged_in()),
      seen_(here_) {}

SetReader& DiskPasses::reader_of(const ShelfSet& set) {
  std::unique_ptr<SetReader>& reader = readers_[set.id];
  if (!reader) {
    SetStream stream{set.folder, set.seal.parts, set.seal.encrypted(), set.seal.compressed};
    reader = std::make_unique<SetReader>(*open_.place, std::move(stream), identities_);
  }
  return *reader;
}

DiskPasses::Turn DiskPasses::turn_of(const ContentLocation& location, std::uint64_t size) {
  std::set<std::uint64_t> disks = disks_of(open_.shelf, location, size);
  if (!first_ && all_seen(disks, seen_before_)) return Turn::kBefore;
  if (all_seen(disks, seen_)) return Turn::kNow;
  std::set_difference(disks.begin(), disks.end(), seen_.begin(), seen_.end(),
                      std::inserter(needed_, needed_.end()));
  return Turn::kLater;
}

void DiskPasses::keep(const ContentLocation& location, std::uint64_t size) {
  Bytes buffer(1 << 20);
  for (const StreamStretch& stretch : stretches_of(open_.shelf, location, size)) {
    if (!here_.contains(stretch.disk)) continue;
    const ShelfSet& set = *open_.shelf.find(stretch.set);
    SetReader& reader = reader_of(set);
    std::uint64_t at = stretch.begin;
    at += spool_.holds(set.folder, at, stretch.end - at);
    while (at < stretch.end) {
      if (stop_ && stop_()) throw Error(ErrorKind::kStopped, "stopped");
      // The last part may end before what was supposed.
      std::uint64_t end = std::min(stretch.end, reader.part_end(at));
      if (end <= at) break;
      auto piece = std::span(buffer).first(std::min<std::uint64_t>(buffer.size(), end - at));
      reader.read_at(at, piece);
      spool_.keep(set.folder, at, piece);
      at += piece.size();
    }
  }
}

bool DiskPasses::next(const std::function<bool(const std::vector<std::string>&)>& bring) {
  std::vector<std::string> names;
  for (std::uint64_t disk : needed_) names.push_back(open_.earlier->name(disk));
  readers_.clear();
  for (;;) {
    open_.earlier->let_go();  // so that one can be taken out for the other
    if (!bring || !bring(names)) return false;
    if (stop_ && stop_()) throw Error(ErrorKind::kStopped, "stopped");
    open_.earlier->let_go();
    here_ = open_.earlier->plugged_in();
    bool helps = std::any_of(needed_.begin(), needed_.end(),
                             [&](std::uint64_t disk) { return here_.contains(disk); });
    if (helps) break;
  }
  first_ = false;
  seen_before_ = seen_;
  seen_.insert(here_.begin(), here_.end());
  needed_.clear();
  return true;
}

std::string DiskPasses::lacking(const ContentLocation& location, std::uint64_t size) const {
  std::string names;
  for (std::uint64_t disk : disks_of(open_.shelf, location, size)) {
    if (seen_.contains(disk)) continue;
    names += (names.empty() ? "" : ", ") + printable(open_.earlier->name(disk));
  }
  return names;
}

}  // namespace kestrum
