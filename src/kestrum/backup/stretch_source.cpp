#include "kestrum/backup/stretch_source.h"

#include <algorithm>

namespace kestrum {
namespace {

// How many stretches the window holds: ahead at least and at most, and behind at most.
constexpr std::size_t kAheadAtLeast = 1024, kAheadAtMost = 2048, kBehind = 1024;
constexpr std::size_t kTrails = 5;

}  // namespace

std::uint64_t StretchTrail::key_of(const Stretch& stretch) {
  return get_le64(stretch.digest.data());
}

void StretchTrail::clear() {
  window_.clear();
  by_digest_.clear();
  at_ = 0;
  ranges_.clear();
  range_ = 0;
  in_range_ = 0;
  tail_.reset();
  last_ = {};
  last_set_.reset();
  ended_ = false;
}

void StretchTrail::follow(std::vector<ContentRange> ranges) {
  clear();
  ranges_ = std::move(ranges);
}

void StretchTrail::follow_from(const ContentRange& place) {
  if (auto ranges = index_.ranges_from(place); !ranges.empty()) return follow(std::move(ranges));
  clear();
  auto list = index_.stretches_at(place.set, place.entry, place.offset);
  if (!list || !place.set) {
    ended_ = true;
    return;
  }
  tail_ = place.set;
  last_ = *list;
  take(last_, tail_, place.offset, last_.end());
}

void StretchTrail::take(const StretchList& list, std::optional<SetId> set, std::uint64_t from,
                        std::uint64_t until) {
  std::uint64_t at = list.from;
  for (const Stretch& stretch : list.stretches) {
    if (at >= from && at + stretch.length <= until) {
      HeldStretch held{stretch, {stretch.length, false, set, list.tar_offset, at}};
      if (!set || !damaged_.reached_by(held.place)) window_.push_back(held);
    }
    at += stretch.length;
  }
}

bool StretchTrail::load_tail() {
  auto list = index_.stretches_behind(*tail_, last_);
  if (!list) return false;
  last_ = *list;
  take(last_, tail_, last_.from, last_.end());
  return true;
}

bool StretchTrail::load_ranges() {
  if (range_ == ranges_.size()) return false;
  const ContentRange& range = ranges_[range_];
  auto next_range = [&] {
    ++range_;
    in_range_ = 0;
    return true;
  };
  if (range.hole) return next_range();
  std::uint64_t from = range.offset + in_range_;
  bool in_last = last_set_ == range.set && last_.tar_offset == range.entry &&
                 !last_.stretches.empty() && last_.from <= from && from < last_.end();
  if (!in_last) {
    auto list = index_.stretches_at(range.set, range.entry, from);
    if (!list) return next_range();
    last_ = *list;
    last_set_ = range.set;
  }
  take(last_, range.set, from, range.offset + range.length);
  in_range_ = last_.end() - range.offset;
  return in_range_ >= range.length ? next_range() : true;
}

bool StretchTrail::load() {
  return tail_ ? load_tail() : load_ranges();
}

void StretchTrail::refill() {
  if (ended_ || window_.size() - at_ >= kAheadAtLeast) return;
  if (at_ > kBehind) {
    window_.erase(window_.begin(), window_.begin() + static_cast<std::ptrdiff_t>(at_ - kBehind));
    at_ = kBehind;
  }
  while (!ended_ && window_.size() - at_ < kAheadAtMost) ended_ = !load();
  by_digest_.clear();
  // The nearest ahead counts, then the nearest behind.
  for (std::size_t i = 0; i < at_; ++i) by_digest_[key_of(window_[i].stretch)] = i;
  for (std::size_t i = window_.size(); i > at_; --i) {
    by_digest_[key_of(window_[i - 1].stretch)] = i - 1;
  }
}

const HeldStretch* StretchTrail::next() {
  refill();
  return at_ < window_.size() ? &window_[at_] : nullptr;
}

const HeldStretch* StretchTrail::find(const Stretch& stretch) {
  refill();
  auto known = by_digest_.find(key_of(stretch));
  if (known == by_digest_.end() || !(window_[known->second].stretch == stretch)) return nullptr;
  at_ = known->second + 1;
  return &window_[known->second];
}

StretchSource::StretchSource(Index& index, const RunPlan& plan)
    : index_(index),
      plan_(plan),
      trails_(kTrails, {StretchTrail(index, plan.damaged), 0}),
      last_(trails_.data()) {}

const HeldStretch* StretchSource::expected() {
  return last_ == nullptr ? nullptr : last_->trail.next();
}

void StretchSource::took_expected() {
  last_->trail.advance();
  ++last_->found;
}

std::optional<ContentRange> StretchSource::find(const Stretch& stretch) {
  for (Trail& trail : trails_) {
    if (const HeldStretch* held = trail.trail.find(stretch)) {
      last_ = &trail;
      ++trail.found;
      return held->place;
    }
  }
  last_ = nullptr;
  if (auto place = index_.journal_stretch(stretch)) return place;
  for (const ContentRange& place : index_.anchors(stretch, plan_.ancestors)) {
    if (plan_.damaged.reached_by(place)) continue;
    Trail& trail = least_used();
    trail.trail.follow_from(place);
    if (trail.trail.find(stretch) == nullptr) continue;
    trail.found = 1;
    last_ = &trail;
    return place;
  }
  return std::nullopt;
}

// But for the version's own. What was found on the others counts for less from now on.
StretchSource::Trail& StretchSource::least_used() {
  auto least = std::min_element(trails_.begin() + 1, trails_.end(),
                                [](const Trail& a, const Trail& b) { return a.found < b.found; });
  for (Trail& trail : trails_) trail.found -= trail.found / 8;
  return *least;
}

ContentRange whole_entry(std::optional<SetId> set, std::uint64_t tar_offset) {
  return {INT64_MAX, false, set, tar_offset, 0};
}

std::vector<ContentRange> ranges_of(const ContentLocation& location) {
  if (!location.ranges.empty()) return location.ranges;
  return {whole_entry(location.set, location.tar_offset)};
}

}  // namespace kestrum
