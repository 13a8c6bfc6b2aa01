// What is known to be damaged in the sealed sets of a shelf: remembered in the machine's state, so
// that runs store anew what lies there, and pruning does not count on it.
#pragma once

#include <optional>
#include <string>
#include <vector>

#include "kestrum/access/open_shelf.h"
#include "kestrum/shelf/damaged_content.h"

namespace kestrum {

// Looks whether every part and ledger is there and as long as its seal says, which costs a listing
// a set; makes a ledger good again from its copy; remembers what else is not, and forgets what was
// known of sets that are not there any more.
struct LookedOver {
  std::vector<KnownDamage> damage;  // what was not known before
  std::vector<std::string> mended;  // in words
};
LookedOver look_over(OpenShelf& open);

// What a thorough look at `checked` found takes the place of all that was known of those sets.
void remember_damage(OpenShelf& open, const std::vector<SetId>& checked,
                     const std::vector<KnownDamage>& found);

// Adds what a look at some files found; what is known stays.
void add_damage(OpenShelf& open, const std::vector<KnownDamage>& found);

// The damaged parts that are known, in the order of the record.
DamagedContent damaged_content(const OpenShelf& open);

// Whether it is known that this file of a set is damaged.
bool knows_damage(const std::vector<KnownDamage>& list, SetId set, const std::string& file);

// Whether both copies of a set's ledger are known to be damaged.
bool knows_ledger_lost(const std::vector<KnownDamage>& list, const ShelfSet& set);
// Whether it is known that the seal of this set cannot be read.
bool knows_unreadable(const std::vector<KnownDamage>& list, const ShelfSet& set);

// Why no set can follow the newest: one that came after it cannot be read, or a ledger of its chain
// is damaged, without which no other PC could read what follows. Nothing if all is well.
std::optional<std::string> why_none_can_follow(const OpenShelf& open);

// Nothing that is restored from `set` or later leans on `damage`. What became known meanwhile is
// not meant.
void mark_mended(OpenShelf& open, SetId set, const std::vector<KnownDamage>& damage);

// "c1-0 part-000003.tar.zst: it is missing"
std::string in_words(const KnownDamage& damage);

}  // namespace kestrum
