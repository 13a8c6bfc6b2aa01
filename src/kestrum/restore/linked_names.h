// Which names of a file that had several are one file again: those whose group and full state
// agree.
#pragma once

#include <optional>
#include <utility>
#include <vector>

#include "kestrum/machine/index.h"
#include "kestrum/machine/index_rows.h"

namespace kestrum {

// `Name` is where a name went. Names of one group come behind each other (Order::kByContent), so
// that only those of the last group are remembered.
template <typename Name>
class LinkedNames {
 public:
  // The name that was put first with the state of `entry`; nothing if there is none.
  const Name* find(const IndexEntry& entry) const {
    if (entry.line.entry.link_group == 0) return nullptr;
    for (const auto& [first, name] : names_) {
      bool same =
          first.line.entry.link_group == entry.line.entry.link_group && same_state(first, entry);
      if (same) return &name;
    }
    return nullptr;
  }

  void put(const IndexEntry& entry, Name name) {
    std::uint64_t group = entry.line.entry.link_group;
    if (group == 0 || find(entry) != nullptr) return;
    if (!names_.empty() && names_.front().first.line.entry.link_group != group) names_.clear();
    names_.emplace_back(entry, std::move(name));
  }

 private:
  std::vector<std::pair<IndexEntry, Name>> names_;
};

}  // namespace kestrum
