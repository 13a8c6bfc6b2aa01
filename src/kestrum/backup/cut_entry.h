// Ending the entry at which the parts of an interrupted run were cut.
#pragma once

#include "kestrum/backup/content_feed.h"
#include "kestrum/machine/index.h"
#include "kestrum/select/source_file.h"
#include "kestrum/select/source_tree.h"

namespace kestrum {

// The metadata of a path (relative to "/") as `st` tells it.
Entry describe(OwnerNames& owners, const std::string& path, const struct stat& st);

// Ends the entry with the rest of its file, if that is as it was and begins as it did; the index
// then knows it as carried over. Otherwise with zeros that nobody reads. Returns the bytes of the
// file that were copied. The state needed: nothing else was given to the writer yet. `listed`: the
// index gets the stretches of the entry.
std::uint64_t finish_cut_entry(const CutEntry& cut, Index& index, SetWriter& writer,
                               ContentFeed& feed, OwnerNames& owners, const SourceTree& source,
                               bool listed);

}  // namespace kestrum
