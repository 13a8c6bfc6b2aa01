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
    index_.journal_listed(tar_offset, path, 0);
  }
  ListedContent(const ListedContent&) = delete;
  ListedContent& operator=(const ListedContent&) = delete;

  // What follows in the entry, which lies at `at` of the file.
  void add(std::uint64_t at, ByteView content) {
    if (at != at_) {
      lister_.end_run();
      put();
      list_.at = at;
    }
    lister_.add(content);
    at_ = at + content.size();
  }
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
    list_.at += end - list_.from;
    list_.from = end;
    list_.stretches.clear();
  }

  Index& index_;
  StretchList list_;
  std::uint64_t at_ = 0;  // of the file: where the last content ended
  StretchLister lister_;
};

}  // namespace kestrum
