// Restoring from a shelf over several disks, each of which is needed once: what lies on those that
// are plugged in is restored, what of the rest lies there is kept, and then the next disk's turn
// has come.
#pragma once

#include <cstdint>
#include <functional>
#include <map>
#include <memory>
#include <set>
#include <string>
#include <vector>

#include "kestrum/access/content_disks.h"
#include "kestrum/access/open_shelf.h"
#include "kestrum/archive/set_reader.h"
#include "kestrum/base/observer.h"

namespace kestrum {

class DiskPasses {
 public:
  // `folders`: where pieces can be kept meanwhile. What is passed by reference outlives it.
  DiskPasses(const OpenShelf& open, std::span<const Identity> identities,
             std::vector<std::string> folders, StopRequest stop);

  const StreamSpool& spool() const { return spool_; }

  enum class Turn { kNow, kBefore, kLater };
  // When content can be read. What is for later is remembered, so that next() asks for its disks.
  Turn turn_of(const ContentLocation& location, std::uint64_t size);
  // Whether anything was for later in this pass.
  bool anything_later() const { return !needed_.empty(); }
  // Of what is for later: keeps what lies on the disks that are there. Throws Error(kNoRoom).
  void keep(const ContentLocation& location, std::uint64_t size);
  // Asks for one of the disks that are needed, and waits until it is there: `bring` is called with
  // the names of all that would help; false if nobody brings one. The next pass begins then.
  bool next(const std::function<bool(const std::vector<std::string>&)>& bring);
  // The disks, by name, that content needs and that were never there.
  std::string lacking(const ContentLocation& location, std::uint64_t size) const;

 private:
  SetReader& reader_of(const ShelfSet& set);

  const OpenShelf& open_;
  std::span<const Identity> identities_;
  StopRequest stop_;
  StreamSpool spool_;
  std::map<SetId, std::unique_ptr<SetReader>> readers_;  // during this pass
  bool first_ = true;
  std::set<std::uint64_t> here_;                // plugged in during this pass
  std::set<std::uint64_t> seen_, seen_before_;  // in this pass or before; before
  std::set<std::uint64_t> needed_;              // by what is for later
};

}  // namespace kestrum
