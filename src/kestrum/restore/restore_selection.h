// What a restore is to give back: entries of one restore point, chosen as people name them.
#pragma once

#include <functional>
#include <optional>
#include <string>
#include <vector>

#include "kestrum/access/read_session.h"
#include "kestrum/machine/chosen_entries.h"

namespace kestrum {

class RestoreSelection {
 public:
  // An empty choice of entries at `set`.
  RestoreSelection(ReadSession& session, SetId set);

  SetId set() const { return entries_.set(); }
  // Adds what a PATH or pattern means, as typed; empty: everything. Returns how many entries it
  // added: none if others hold it already. Throws Error(kNoMatch) if there is nothing of that name.
  std::uint64_t add(const std::string& typed);
  // What is chosen.
  ChosenEntries& entries() { return entries_; }

  // The deepest folder that holds all of them, relative to "/".
  std::string shared_folder();

 private:
  Error nothing_matched(const std::string& typed);

  ReadSession& session_;
  Index& index_;
  ChosenEntries entries_;
};

}  // namespace kestrum
