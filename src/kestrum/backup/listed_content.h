// Lists the stretches of a tar entry while its content passes by, for the sets that follow.
#pragma once

#include <string>
#include <utility>

#include "kestrum/archive/stretches.h"
#include "kestrum/machine/index.h"

namespace kestrum {

class ListedContent {
 public:
  // Of the entry at `tar_offset` of the set being written, which has the file's own name. `index`
  // outlives it.
  ListedContent(Index& index, std::uint64_t tar_offset, const std::string& path)
      : index_(index), lister_([this](const Stretch& stretch) { take(stretch); }) {
    list_.tar_offset = tar_offset;
    index_.journal_content(tar_offset, path, 0);
  }
  ListedContent(const ListedContent&) = delete;
  ListedContent& operator=(const ListedContent&) = delete;

  StretchLister& lister() { return lister_; }
  void finish() {
    lister_.end_run();
    put();
  }

 private:
  void take(const Stretch& stretch) {
    list_.stretches.push_back(stretch);
    if (list_.stretches.size() == kStretchesAList) put();
  }
  void put() {
    if (list_.stretches.empty()) return;
    std::uint64_t end = list_.end();
    index_.journal_stretches(list_);
    list_.from = end;
    list_.stretches.clear();
  }

  Index& index_;
  StretchList list_;
  StretchLister lister_;
};

}  // namespace kestrum
