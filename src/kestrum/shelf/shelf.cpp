#include "kestrum/shelf/shelf.h"

#include <algorithm>

#include "kestrum/base/error.h"
#include "kestrum/base/file.h"
#include "kestrum/shelf/trust.h"

namespace kestrum {
namespace {

constexpr std::uint64_t kLabelLimit = 1 << 20;
constexpr std::uint64_t kSealLimit = 64 << 20;

std::string without_suffix(const std::string& folder, std::string_view suffix) {
  return folder.substr(0, folder.size() - suffix.size());
}

}  // namespace

Shelf::Shelf(std::shared_ptr<Place> place, ShelfLabel label, std::vector<VerifyKey> keys)
    : place_(std::move(place)), label_(std::move(label)), keys_(std::move(keys)) {
  rescan();
}

void Shelf::set_keys(std::vector<VerifyKey> keys) {
  keys_ = std::move(keys);
  rescan();
}

ShelfLabel Shelf::read_label(Place& place) {
  return ShelfLabel::parse(read_small(place, kLabelFile, kLabelLimit),
                           place.describe() + "/" + kLabelFile);
}

bool Shelf::label_signed() const {
  try {
    std::string text = read_small(*place_, kLabelFile, kLabelLimit);
    std::string signature = read_small(*place_, std::string(kLabelFile) + ".minisig", kLabelLimit);
    return signature_valid(as_bytes(text), signature, keys_);
  } catch (const Error& error) {
    if (error.kind() == ErrorKind::kPlace) throw;
    return false;
  }
}

ShelfSet Shelf::read_set(SetId id, const std::string& folder) const {
  ShelfSet set;
  set.id = id;
  set.folder = folder;
  set.problem_file = kSealFile;
  std::string path = folder + "/" + kSealFile;
  try {
    if (!place_->exists(path)) {
      set.problem = path + ": it is missing";
      return set;
    }
    std::string text = read_small(*place_, path, kSealLimit);
    set.seal_digest = digest_of(as_bytes(text));
    set.seal = Seal::parse(text, path);
    if (set.seal.shelf != label_.shelf || set.seal.set != id) {
      throw Error(ErrorKind::kDamage, path + ": it is the seal of another set");
    }
    if (!keys_.empty()) {
      set.problem_file = std::string(kSealFile) + ".minisig";
      std::string signature = read_small(*place_, path + ".minisig", kLabelLimit);
      if (!signature_valid(as_bytes(text), signature, keys_)) {
        throw Error(ErrorKind::kDamage, path +
                                            ".minisig: not a signature of this seal by a machine "
                                            "that may sign");
      }
    }
    set.problem_file.clear();
    if (set.seal.suspect) set.trusted = read_trust(*place_, label_.shelf, set, keys_);
  } catch (const Error& error) {
    if (error.kind() == ErrorKind::kPlace) throw;
    set.problem = error.message();
    set.unreadable = true;
    set.newer = error.newer();
  }
  return set;
}

const ShelfSet* Shelf::first_suspect() const {
  auto it = std::find_if(sets_.begin(), sets_.end(), [](const ShelfSet& s) { return s.suspect(); });
  return it == sets_.end() ? nullptr : &*it;
}

void Shelf::trust(SetId id, const std::string& because, Nanos now, const SigningKey& key) {
  const ShelfSet* set = find(id);
  if (set == nullptr) throw Error(ErrorKind::kNoMatch, "no set " + id.to_string());
  write_trust(*place_, *set, {label_.shelf, because, now}, key);
  rescan();
}

void Shelf::rescan() {
  sets_.clear();
  leftovers_.clear();
  half_renamed_.clear();
  for (const PlaceEntry& entry : place_->list(kSetsFolder)) {
    auto name = parse_set_folder(entry.name);
    if (!name) continue;
    std::string folder = std::string(kSetsFolder) + "/" + entry.name;
    if (!entry.is_folder) {
      if (name->state != SetFolder::State::kPlain) continue;
      ShelfSet set;
      set.id = name->id;
      set.folder = folder;
      set.problem = folder + ": not a folder";
      set.problem_file = kSealFile;
      set.unreadable = true;  // what cannot be looked at is told to be none, too
      sets_.push_back(std::move(set));
      continue;
    }
    if (name->state == SetFolder::State::kRemoving) {
      leftovers_.push_back(folder);
      continue;
    }
    ShelfSet set = read_set(name->id, folder);
    if (name->state == SetFolder::State::kUnfinished) {
      if (!set.sealed() && !set.unreadable) {
        leftovers_.push_back(folder);
        continue;
      }
      if (set.sealed()) half_renamed_.push_back(folder);
    }
    sets_.push_back(std::move(set));
  }
  std::sort(sets_.begin(), sets_.end(),
            [](const ShelfSet& a, const ShelfSet& b) { return a.id < b.id; });
  // A base that is another than the one the seal names breaks the chain here.
  for (ShelfSet& set : sets_) {
    if (!set.sealed() || !set.seal.based_on) continue;
    const ShelfSet* base = find(*set.seal.based_on);
    if (base != nullptr && base->sealed() && set.seal.base_seal != base->seal_digest) {
      set.problem = set.folder + ": it is based on another " + base->id.to_string() +
                    " than the one that lies here";
      set.problem_file = kSealFile;
      set.unreadable = true;
    }
  }
}

const ShelfSet* Shelf::find(SetId id) const {
  auto it = std::find_if(sets_.begin(), sets_.end(), [&](const ShelfSet& s) { return s.id == id; });
  return it == sets_.end() ? nullptr : &*it;
}

const ShelfSet* Shelf::newest() const {
  for (auto it = sets_.rbegin(); it != sets_.rend(); ++it) {
    if (it->sealed()) return &*it;
  }
  return nullptr;
}

std::vector<SetFacts> Shelf::facts() const {
  std::vector<SetFacts> facts;
  for (const ShelfSet& set : sets_) {
    if (!set.sealed()) continue;
    SetFacts fact = set.seal.facts();
    if (fact.based_on) {
      auto base = std::find_if(facts.begin(), facts.end(),
                               [&](const SetFacts& f) { return f.id == *fact.based_on; });
      fact.restorable = base != facts.end() && base->restorable;
    }
    facts.push_back(fact);
  }
  return facts;
}

void Shelf::finish_renames() {
  for (const std::string& folder : half_renamed_) {
    place_->sync_folder(folder);  // that the seal lasts is not known yet
    place_->rename(folder, without_suffix(folder, kUnfinishedSuffix));
    place_->sync_folder(kSetsFolder);
  }
  for (const std::string& folder : leftovers_) {
    if (folder.ends_with(kRemovingSuffix)) place_->remove_folder(folder);
  }
  if (!half_renamed_.empty() || !leftovers_.empty()) rescan();
}

std::unique_ptr<PlaceHold> Shelf::hold(SetId id) const {
  const ShelfSet* set = find(id);
  if (set == nullptr) throw Error(ErrorKind::kNoMatch, "no set " + id.to_string());
  std::string seal = set->folder + "/" + kSealFile;
  auto held = place_->hold(seal);
  // It may have gone between the look and the hold.
  if (held && (!set->sealed() || place_->exists(seal))) return held;
  throw Error(ErrorKind::kNoMatch, set->folder + ": it was removed meanwhile");
}

bool Shelf::remove(SetId id, const std::function<void()>& renamed) {
  const ShelfSet* set = find(id);
  if (set == nullptr) return true;
  auto taken = place_->take(set->folder + "/" + kSealFile);
  if (!taken) return false;
  check_owner();
  std::string folder = set->folder, removing = folder + std::string(kRemovingSuffix);
  place_->rename(folder, removing);
  place_->sync_folder(kSetsFolder);
  std::erase_if(sets_, [&](const ShelfSet& s) { return s.id == id; });
  renamed();
  place_->remove_folder(removing);
  return true;
}

std::vector<SetId> Shelf::removals() const {
  std::vector<SetId> ids;
  for (const std::string& folder : leftovers_) {
    auto name = parse_set_folder(base_name(folder));
    bool removal = name && name->state == SetFolder::State::kRemoving;
    if (removal && find(name->id) == nullptr) ids.push_back(name->id);
  }
  return ids;
}

std::vector<SetId> Shelf::used_numbers(const std::string& own) const {
  std::vector<SetId> ids;
  for (const ShelfSet& set : sets_) {
    if (!set.sealed()) ids.push_back(set.id);
  }
  for (const std::string& folder : leftovers_) {
    auto name = parse_set_folder(base_name(folder));
    if (name && folder != own) ids.push_back(name->id);
  }
  return ids;
}

bool Shelf::discard(const std::string& unfinished_folder) {
  check_owner();
  std::string removing =
      without_suffix(unfinished_folder, kUnfinishedSuffix) + std::string(kRemovingSuffix);
  place_->remove_folder(removing);
  // Whoever still writes to it does not find it any more, so that nothing is sealed from here on.
  place_->rename(unfinished_folder, removing);
  place_->sync_folder(kSetsFolder);
  bool sealed = place_->exists(removing + "/" + kSealFile);
  if (sealed) {
    place_->rename(removing, unfinished_folder);
  } else {
    place_->remove_folder(removing);
  }
  place_->sync_folder(kSetsFolder);
  rescan();
  return !sealed;
}

void Shelf::check_owner() const {
  ShelfLabel now = read_label(*place_);
  if (now.shelf == label_.shelf && now.owner == label_.owner) return;
  throw Error(
      ErrorKind::kPlace,
      place_->describe() + ": another machine has taken over this shelf meanwhile",
      "it is left as it is; kestrum shelf start " + label_.job + " makes a new one for this PC");
}

void Shelf::check_still_ours(SetId id, const std::string& unfinished_folder) const {
  check_owner();
  for (const PlaceEntry& entry : place_->list(kSetsFolder)) {
    std::string folder = std::string(kSetsFolder) + "/" + entry.name;
    auto name = parse_set_folder(entry.name);
    if (!name || name->id != id || folder == unfinished_folder) continue;
    if (name->state == SetFolder::State::kRemoving || !place_->exists(folder + "/" + kSealFile)) {
      continue;
    }
    throw Error(ErrorKind::kBusy,
                place_->describe() + ": there is a set " + id.to_string() +
                    " by now: another PC writes to this shelf",
                "nothing was sealed; find out which, and give each PC a shelf of its own");
  }
}

Digest Shelf::commit(const Seal& seal, const SigningKey& key,
                     const std::string& unfinished_folder) {
  std::string text = seal.to_json();
  write_signed(*place_, unfinished_folder + "/" + kSealFile, text, key,
               "seal of set " + seal.set.to_string() + " of shelf " + seal.shelf);
  place_->rename(unfinished_folder, without_suffix(unfinished_folder, kUnfinishedSuffix));
  place_->sync_folder(kSetsFolder);
  rescan();
  return digest_of(as_bytes(text));
}

}  // namespace kestrum
