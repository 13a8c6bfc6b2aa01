#include "kestrum/access/known_damage.h"

#include <algorithm>
#include <map>

#include "kestrum/access/ledger_copies.h"
#include "kestrum/base/clock.h"
#include "kestrum/base/error.h"

namespace kestrum {
namespace {

bool is_about(const KnownDamage& damage, SetId set, const std::string& file) {
  return damage.set == set && damage.file == file;
}

// By the names and sizes of its files.
std::vector<KnownDamage> look_at(const OpenShelf& open, const ShelfSet& set) {
  std::map<std::string, std::uint64_t> there;
  for (const PlaceEntry& entry : open.place->list(set.folder)) {
    if (!entry.is_folder) there[entry.name] = entry.size;
  }
  std::vector<KnownDamage> found;
  auto expect = [&](const std::string& name, std::uint64_t bytes) {
    auto file = there.find(name);
    if (file == there.end()) {
      found.push_back({set.id, name, "it is missing", calendar_now(), {}});
    } else if (file->second != bytes) {
      found.push_back(
          {set.id,
           name,
           "it has " + std::to_string(file->second) + " bytes, not " + std::to_string(bytes),
           calendar_now(),
           {}});
    }
  };
  expect(set.seal.ledger_name, set.seal.ledger_bytes);
  expect(set.seal.ledger_copy, set.seal.ledger_bytes);
  for (const PartInfo& part : set.seal.parts) {
    if (there.contains(part.name) || !open.away_disk(set.seal, part)) {
      expect(part.name, part.bytes);
    }
  }
  expect(kBlocksFile, set.seal.blocks_bytes);
  return found;
}

// Takes a ledger out of `found` that could be made good again. In words; nothing if none could.
std::optional<std::string> mend_one(Place& place, const ShelfSet& set,
                                    std::vector<KnownDamage>& found) {
  auto is_ledger = [&](const KnownDamage& damage) {
    return damage.file == set.seal.ledger_name || damage.file == set.seal.ledger_copy;
  };
  auto damaged = std::find_if(found.begin(), found.end(), is_ledger);
  if (damaged == found.end() || std::count_if(found.begin(), found.end(), is_ledger) > 1) {
    return std::nullopt;
  }
  try {
    if (!is_sound_ledger(place, set, set.seal.other_ledger(damaged->file), true)) {
      return std::nullopt;
    }
    std::string words = mend_ledger(place, set, damaged->file);
    found.erase(damaged);
    return words;
  } catch (const Error& error) {  // it is told as damage
    if (error.kind() == ErrorKind::kPlace) throw;
    return std::nullopt;
  }
}

void add_unknown(ShelfRecord& record, const std::vector<KnownDamage>& found) {
  for (const KnownDamage& damage : found) {
    if (!knows_damage(record.damage, damage.set, damage.file)) record.damage.push_back(damage);
  }
}

}  // namespace

bool knows_damage(const std::vector<KnownDamage>& list, SetId set, const std::string& file) {
  return std::any_of(list.begin(), list.end(),
                     [&](const KnownDamage& known) { return is_about(known, set, file); });
}

bool knows_ledger_lost(const std::vector<KnownDamage>& list, const ShelfSet& set) {
  return knows_damage(list, set.id, set.seal.ledger_name) &&
         knows_damage(list, set.id, set.seal.ledger_copy);
}

bool knows_unreadable(const std::vector<KnownDamage>& list, const ShelfSet& set) {
  return set.unreadable && knows_damage(list, set.id, set.problem_file);
}

std::string in_words(const KnownDamage& damage) {
  return damage.set.to_string() + " " + damage.file + ": " + damage.reason;
}

LookedOver look_over(OpenShelf& open) {
  LookedOver result;
  std::vector<KnownDamage>& fresh = result.damage;
  const std::vector<KnownDamage>& known = open.state->record.damage;
  bool outdated = false;
  for (const KnownDamage& damage : known) outdated |= open.shelf.find(damage.set) == nullptr;
  std::vector<std::string> folders;
  for (const ShelfSet& set : open.shelf.sets()) {
    if (set.sealed()) folders.push_back(set.folder);
  }
  open.place->fetch_ahead({}, folders);
  for (const ShelfSet& set : open.shelf.sets()) {
    if (!set.sealed()) continue;
    std::vector<KnownDamage> damage = look_at(open, set);
    if (auto mended = mend_one(*open.place, set, damage)) result.mended.push_back(*mended);
    for (KnownDamage& found : damage) {
      if (!knows_damage(known, found.set, found.file)) fresh.push_back(std::move(found));
    }
  }
  if (fresh.empty() && !outdated) return result;
  open.state->update_record([&](ShelfRecord& record) {
    std::erase_if(record.damage, [&](const KnownDamage& damage) {
      return open.shelf.find(damage.set) == nullptr;
    });
    add_unknown(record, fresh);
  });
  return result;
}

void remember_damage(OpenShelf& open, const std::vector<SetId>& checked,
                     const std::vector<KnownDamage>& found) {
  if (!open.state || (found.empty() && open.state->record.damage.empty())) return;
  auto was_checked = [&](SetId set) {
    return std::find(checked.begin(), checked.end(), set) != checked.end();
  };
  open.state->update_record([&](ShelfRecord& record) {
    std::vector<KnownDamage> damage = found;
    for (KnownDamage& now : damage) {  // since when, and what mended it, stays
      for (const KnownDamage& before : record.damage) {
        if (!is_about(before, now.set, now.file)) continue;
        now.found = before.found;
        now.mended_by = before.mended_by;
      }
    }
    for (const KnownDamage& before : record.damage) {
      if (!was_checked(before.set) && open.shelf.find(before.set) != nullptr) {
        damage.push_back(before);
      }
    }
    record.damage = std::move(damage);
  });
}

void add_damage(OpenShelf& open, const std::vector<KnownDamage>& found) {
  if (!open.state || found.empty()) return;
  open.state->update_record([&](ShelfRecord& record) { add_unknown(record, found); });
}

DamagedContent damaged_content(const OpenShelf& open) {
  DamagedContent damaged;
  if (!open.state) return damaged;
  for (const KnownDamage& damage : open.state->record.damage) {
    const ShelfSet* set = open.shelf.find(damage.set);
    if (set == nullptr || !set->sealed()) continue;
    for (std::size_t i = 0; i < set->seal.parts.size(); ++i) {
      if (set->seal.parts[i].name == damage.file) damaged.add(set->seal, i);
    }
  }
  return damaged;
}

std::optional<std::string> why_none_can_follow(const OpenShelf& open) {
  const ShelfSet* set = open.shelf.newest();
  for (const ShelfSet& other : open.shelf.sets()) {
    if (other.unreadable && set != nullptr && set->id < other.id) {
      return "the seal of " + other.id.to_string() + " cannot be read";
    }
  }
  while (set != nullptr && set->sealed()) {
    if (knows_ledger_lost(open.state->record.damage, *set)) {
      return "the ledger of " + set->id.to_string() + " is damaged";
    }
    set = set->seal.based_on ? open.shelf.find(*set->seal.based_on) : nullptr;
  }
  return std::nullopt;
}

void mark_mended(OpenShelf& open, SetId set, const std::vector<KnownDamage>& damage) {
  bool any = std::any_of(damage.begin(), damage.end(),
                         [](const KnownDamage& known) { return !known.mended_by; });
  if (!any) return;
  open.state->update_record([&](ShelfRecord& record) {
    for (KnownDamage& known : record.damage) {
      if (!known.mended_by && knows_damage(damage, known.set, known.file)) known.mended_by = set;
    }
  });
}

}  // namespace kestrum
