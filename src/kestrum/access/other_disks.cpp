#include "kestrum/access/other_disks.h"

#include <fmt/format.h>

#include <algorithm>

namespace kestrum {

std::vector<OtherHead> heads_of_others(const MachineState& machine, const OpenShelf& open) {
  const std::string& own = open.shelf.label().shelf;
  std::vector<OtherHead> others;
  auto add = [&](const OtherHead& head) {
    auto known = std::find_if(others.begin(), others.end(),
                              [&](const OtherHead& other) { return other.shelf == head.shelf; });
    if (known == others.end()) {
      others.push_back(head);
    } else if (known->number < head.number) {
      *known = head;
    }
  };
  for (const ShelfState& state : machine.shelves(open.state->record.job)) {
    const ShelfRecord& record = state.record;
    if (record.shelf == own) continue;
    if (record.newest.seal) add({record.shelf, record.newest.number, *record.newest.seal});
  }
  for (const OtherHead& head : open.state->record.others) add(head);
  std::erase_if(others, [&](const OtherHead& other) { return other.shelf == own; });
  return others;
}

std::uint64_t next_seal_number(const MachineState& machine, const OpenShelf& open) {
  std::uint64_t number = std::max(open.shelf.next_number(), open.state->record.newest.number + 1);
  for (const ShelfState& state : machine.shelves()) {
    for (const OtherHead& known : state.record.others) {
      if (known.shelf == open.shelf.label().shelf) number = std::max(number, known.number + 1);
    }
  }
  return number;
}

std::optional<std::string> why_set_back(const MachineState& machine, const OpenShelf& open) {
  if (auto why = open.shelf.set_back()) return why;
  if (open.shelf.label().may_be_behind()) return std::nullopt;  // it may be behind
  const ShelfSet* newest = open.shelf.newest();
  std::uint64_t number = newest == nullptr ? 0 : newest->seal.number;
  for (const ShelfState& state : machine.shelves()) {
    for (const OtherHead& known : state.record.others) {
      if (known.shelf != open.shelf.label().shelf) continue;
      const ShelfSet* there = open.shelf.numbered(known.number);
      bool other = there != nullptr && there->seal_digest != known.seal;
      if (known.number <= number && !other) continue;
      return fmt::format("the disk at {} knew a newer set of it, seal number {}",
                         state.record.place, known.number);
    }
  }
  return std::nullopt;
}

}  // namespace kestrum
