#include "kestrum/access/rebuild_index.h"

#include <algorithm>
#include <functional>
#include <optional>
#include <set>

#include "kestrum/access/known_damage.h"
#include "kestrum/access/ledger_copies.h"
#include "kestrum/access/tar_names.h"
#include "kestrum/base/error.h"
#include "kestrum/base/file.h"
#include "kestrum/base/units.h"

namespace kestrum {

LedgerReader open_ledger(const Shelf& shelf, const ShelfSet& set,
                         std::span<const Identity> identities) {
  const Seal& seal = set.seal;
  std::string name = seal.ledger_name;
  auto file = open_sound_ledger(shelf.place(), set, name);
  std::string path = set.folder + "/" + name;
  if (!file) throw Error(ErrorKind::kDamage, path + ": not what the seal says it is");
  auto content = std::make_unique<PackedFileReader>(
      std::move(file), seal.encrypted(), seal.compressed, Unlocker{identities, nullptr}, path);
  LedgerReader reader(std::move(content), path);
  if (reader.head().set != seal.set || reader.head().shelf != seal.shelf ||
      reader.head().based_on != seal.based_on || reader.head().number != seal.number) {
    throw Error(ErrorKind::kDamage, path + ": it is the ledger of another set");
  }
  return reader;
}

namespace {

// Sets can only be added behind those that the index knows; anything else starts it anew.
bool can_be_continued(const Shelf& shelf, Index& index) {
  auto known = index.sets();
  for (const IndexedSet& set : known) {
    const ShelfSet* there = shelf.find(set.set);
    if (there == nullptr || there->seal_digest != set.seal_digest) return false;
  }
  return std::all_of(shelf.sets().begin(), shelf.sets().end(), [&](const ShelfSet& set) {
    return !set.sealed() || known.empty() || known.back().set < set.id || index.has(set.id);
  });
}

}  // namespace

namespace {

// From its ledger; the journal becomes the set.
void take_in(const Shelf& shelf, const ShelfSet& set, Index& index,
             std::span<const Identity> identities) {
  LedgerReader ledger = open_ledger(shelf, set, identities);
  std::vector<std::int64_t> ancestors;
  if (set.seal.based_on) ancestors = ancestors_of(*set.seal.based_on, index.sets());
  index.journal_start();
  IndexEntry entry;
  std::uint64_t lines = 0;
  // What was read lately by that machine's clock is not known here, nor are inode numbers: a
  // later run looks at ctime and inode, finds them different and compares digests.
  auto must_be_base = [&](const std::optional<SetId>& other) {
    if (!other || std::binary_search(ancestors.begin(), ancestors.end(), other->sequence())) return;
    throw Error(ErrorKind::kDamage,
                set.folder + "/" + set.seal.ledger_name + ": refers to a set it is not based on");
  };
  ledger.on_list([&](const StretchList& list) {
    index.journal_listed(list.tar_offset, list.path, 0);
    index.journal_stretches(list);
  });
  while (ledger.next(entry.line)) {
    must_be_base(entry.line.in_set);
    for (const ContentRange& range : entry.line.ranges) must_be_base(range.set);
    index.journal_put(entry);
    ++lines;
  }
  index.take_in({set.id, set.seal.kind, set.seal.based_on, set.seal.started, ledger.head().roots,
                 ledger.head().lacking, set.seal_digest, set.seal.ledger_digest, lines,
                 ledger.foot().suspect_why});
}

// The folders of the job at a set whose ledger is lost: those of its base, of the nearest set
// behind it whose ledger can be read, or else what all its files have in common.
std::vector<KnownRoot> likely_roots(const Shelf& shelf, const ShelfSet& set, Index& index,
                                    std::span<const Identity> identities, const TarNames& names) {
  if (set.seal.based_on) return index.find_set(*set.seal.based_on)->roots;
  for (const ShelfSet& later : shelf.sets()) {
    if (!later.sealed() || !(set.id < later.id)) continue;
    try {
      return open_ledger(shelf, later, identities).head().roots;
    } catch (const Error& error) {
      if (error.kind() == ErrorKind::kPlace) throw;
    }
  }
  return {{names.common_folder, false}};
}

// From its tar, in words what that leaves open; `why` its ledger does not do.
std::string take_in_names(const Shelf& shelf, const ShelfSet& set, Index& index,
                          std::span<const Identity> identities, Observer& observer,
                          const std::string& why) {
  index.journal_start();
  TarNames names = read_tar_names(shelf, set, identities, index, observer);
  index.take_in({set.id, set.seal.kind, set.seal.based_on, set.seal.started,
                 likely_roots(shelf, set, index, identities, names), std::nullopt, set.seal_digest,
                 set.seal.ledger_digest, names.lines, ""});
  std::string words =
      why + "; of " + set.id.to_string() + " there is what lies in its tar, names only";
  if (set.seal.based_on) {
    words +=
        "; what was deleted or moved since " + set.seal.based_on->to_string() + " is not known";
  }
  if (names.stretches > 0) words += "; what changed in large files cannot be put together";
  if (names.unreadable > 0) words += "; " + counted(names.unreadable, "file") + " cannot be read";
  if (names.cut_short) words += "; what comes behind damage in its tar is missing";
  return words;
}

}  // namespace

RebuildResult update_index(const Shelf& shelf, Index& index, std::span<const Identity> identities,
                           Observer& observer, LostLedger lost) {
  RebuildResult result;
  if (index.pending()) index.drop_pending();  // it is read like any other
  if (!can_be_continued(shelf, index)) index.clear();
  auto attempt = [&](const std::function<void()>& take) -> std::optional<Error> {
    try {
      take();
      return std::nullopt;
    } catch (const Error& error) {
      index.roll_back();
      bool no_key = error.kind() == ErrorKind::kPassphrase && identities.empty();
      if (error.kind() == ErrorKind::kPlace || no_key) throw;
      return error;
    }
  };
  for (const ShelfSet& set : shelf.sets()) {
    if (!set.sealed()) {
      result.problems.push_back(set.problem);
      continue;
    }
    if (index.has(set.id)) continue;
    if (set.seal.based_on && !index.has(*set.seal.based_on)) {
      result.problems.push_back(set.id.to_string() + ": " + set.seal.based_on->to_string() +
                                ", which it is based on, cannot be read");
      continue;
    }
    observer.progress({"reading the ledger of " + set.id.to_string(), 0, 0, 0, 0, ""});
    auto error = attempt([&] { take_in(shelf, set, index, identities); });
    if (!error) continue;
    bool damaged = error->kind() == ErrorKind::kDamage && !error->newer();
    if (lost == LostLedger::kLeaveOut || !damaged) {
      result.problems.push_back(error->message());
      continue;
    }
    std::string words;
    auto worse = attempt(
        [&] { words = take_in_names(shelf, set, index, identities, observer, error->message()); });
    result.problems.push_back(worse ? error->message() : words);
    if (!worse) result.names_only.push_back(set.id);
  }
  return result;
}

namespace {

bool is_of(const IndexedSet& known, const ShelfSet& set) {
  return set.sealed() && known.set == set.id && known.seal_digest == set.seal_digest &&
         known.ledger_digest == set.seal.ledger_digest;
}

}  // namespace

bool index_holds(Index& index, const ShelfSet& set) {
  auto known = index.find_set(set.id);
  return known && is_of(*known, set);
}

bool index_matches(const Shelf& shelf, Index& index) {
  const ShelfSet* set = shelf.newest();
  auto known = index.newest();
  if (set == nullptr) return !known;
  if (!known) return false;
  // Back to the full set. What is lost on the shelf is known here all the same.
  while (set != nullptr && set->sealed()) {
    if (!is_of(*known, *set)) return false;
    if (!set->seal.based_on) return true;
    known = index.find_set(*set->seal.based_on);
    if (!known || known->seal_digest != set->seal.base_seal) return false;
    set = shelf.find(known->set);
  }
  return true;
}

std::string why_suspect(const OpenShelf& open, const ShelfSet& set) {
  std::string why;
  try {
    if (open.state && path_exists(open.state->index_path())) {
      Index index(open.state->index_path());
      auto known = index.find_set(set.id);
      if (known && is_of(*known, set)) why = known->suspect_why;
    }
  } catch (const std::exception&) {  // also from SQLite
    why.clear();
  }
  return why.empty() ? "why, its ledger says" : why;
}

std::vector<SetId> sets_not_indexed(const Shelf& shelf, Index& index,
                                    const std::vector<KnownDamage>& damage) {
  std::vector<SetId> missing;
  std::set<SetId> usable;
  for (const ShelfSet& set : shelf.sets()) {
    if (!set.sealed() || knows_ledger_lost(damage, set)) continue;
    if (set.seal.based_on && !usable.contains(*set.seal.based_on)) continue;
    usable.insert(set.id);
    if (!index_holds(index, set)) missing.push_back(set.id);
  }
  return missing;
}

std::vector<std::string> check_index(const Shelf& shelf, Index& index,
                                     std::span<const Identity> identities) {
  return index.check([&](const IndexedSet& known) -> std::optional<LedgerReader> {
    const ShelfSet* set = shelf.find(known.set);
    if (set == nullptr || !is_of(known, *set)) return std::nullopt;
    try {
      return open_ledger(shelf, *set, identities);
    } catch (const Error& error) {
      if (error.kind() == ErrorKind::kPlace) throw;
      return std::nullopt;
    }
  });
}

}  // namespace kestrum
