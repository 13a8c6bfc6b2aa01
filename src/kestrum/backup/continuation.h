// Going on with a set that an interrupted run left: which of its parts are of use.
#pragma once

#include <sys/stat.h>

#include <optional>
#include <string>
#include <vector>

#include "kestrum/access/open_shelf.h"
#include "kestrum/base/observer.h"
#include "kestrum/machine/index.h"
#include "kestrum/select/source_tree.h"

namespace kestrum {

// Of the files of these parts.
std::uint64_t bytes_of(const std::vector<ClosedPart>& parts);

struct Continuation {
  std::string folder;  // where the parts lie, relative to the shelf
  std::vector<ClosedPart> parts;
  Nanos begun = 0;  // when the first run of the set started

  std::uint64_t bytes() const { return bytes_of(parts); }
};

struct FoundContinuation {
  std::optional<Continuation> use;
  std::string refused;  // why not, in words; empty if there was nothing to go on with
};

// Looks at what the index remembers and the shelf holds. `wanted` is the set that is due: its kind,
// base and packing must be those of the one that was begun. Each part is read and compared with its
// digest. Throws Error(kPlace), Error(kStopped).
FoundContinuation find_continuation(const OpenShelf& open, Index& index, const BegunSet& wanted,
                                    const SourceTree& source, const StopRequest& stop,
                                    Observer& observer);

// The number of the set that was begun, if parts of it lie on disks that the shelf has gone on
// from.
std::optional<SetId> number_begun_elsewhere(const OpenShelf& open, Index& index);

// Whether there are parts that the next run can go on with, as far as what is remembered tells: it
// may find that another kind of set is due, or the parts damaged.
bool may_be_continued(const OpenShelf& open, Index& index);

// The same by what the index remembers alone: the parts are there, and not read.
std::optional<Continuation> likely_continuation(const OpenShelf& open, Index& index,
                                                const BegunSet& wanted);

// How parts are packed, as one word that differs where a set could not be gone on with.
std::string packing_word(const Packing& packing, std::uint64_t part_size);

// Whether a file looks as it did when its entry was begun.
bool is_as_it_was(const LargeFile& file, const struct stat& st);

// Removes from an unfinished set's folder all but these parts.
void remove_all_but(Place& place, const std::string& folder, const std::vector<ClosedPart>& parts);

// Whether an unfinished folder says that it goes on on another disk, and this PC does not know it
// for its own, of which it knows where it goes on.
bool is_of_another_disk(const OpenShelf& open, Index& index, const std::string& folder);

// The unfinished sets of a shelf that may be removed, and removals that were begun.
std::vector<std::string> removable_leftovers(const OpenShelf& open, Index& index);
// Bytes in the unfinished sets among some leftovers.
std::uint64_t unfinished_bytes(const Shelf& shelf, const std::vector<std::string>& leftovers);

}  // namespace kestrum
