#include "kestrum/shelf/shelf.h"

#include <fmt/format.h>

#include <algorithm>
#include <map>
#include <utility>

#include "kestrum/base/error.h"
#include "kestrum/base/file.h"
#include "kestrum/base/units.h"
#include "kestrum/shelf/trust.h"

namespace kestrum {
namespace {

constexpr std::uint64_t kLabelLimit = 1 << 20;

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

const EarlierDisk* Shelf::lies_on(const Seal& seal, const PartInfo& part) const {
  return label_.lies_on(seal.number, part.disk);
}

bool Shelf::look_at_label() const {
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
    check_signature(set, text);
    set.vouched = true;
    set.seal = Seal::parse(text, path);
    if (set.seal.shelf != label_.shelf || set.seal.set != id) {
      throw Error(ErrorKind::kDamage, path + ": it is the seal of another set");
    }
    bool other_key = label_vouched_ && set.seal.recipient != label_.recipient;
    if (other_key && !retired_.seals.contains(set.seal_digest)) {
      throw Error(ErrorKind::kDamage, path + ": it is encrypted to a key that is not this shelf's");
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

// Before anything of it is parsed. Throws Error(kDamage) unless somebody vouches for it.
void Shelf::check_signature(const ShelfSet& set, const std::string& text) const {
  if (keys_.empty() || retired_.seals.contains(set.seal_digest)) return;
  std::string path = set.folder + "/" + kSealFile + ".minisig";
  std::string signature = read_small(*place_, path, kLabelLimit);
  if (signature_valid(as_bytes(text), signature, keys_)) return;
  if (!retired_.not_read.empty()) {
    throw Error(ErrorKind::kFailed, retired_.not_read +
                                        ": it cannot be read now, and nothing else vouches for " +
                                        set.id.to_string());
  }
  if (signature_valid(as_bytes(text), signature, retired_.keys)) {
    throw Error(ErrorKind::kDamage, path +
                                        ": signed by a key that may sign no more, and not among "
                                        "what stays valid of it");
  }
  throw Error(ErrorKind::kDamage,
              path + ": not a signature of this seal by a machine that may sign");
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

namespace {

// Of a folder that was looked at before; nullptr if it was not, or was not whole.
const ShelfSet* known_whole(const std::vector<ShelfSet>& known, const std::string& folder) {
  auto it = std::find_if(known.begin(), known.end(),
                         [&](const ShelfSet& set) { return set.folder == folder && set.sealed(); });
  return it == known.end() ? nullptr : &*it;
}

}  // namespace

void Shelf::fetch_seals(const std::vector<PlaceEntry>& entries, const std::vector<ShelfSet>& known,
                        std::vector<std::string> also) {
  std::vector<std::string> seals = std::move(also);
  for (const PlaceEntry& entry : entries) {
    auto name = parse_set_folder(entry.name);
    if (!name || !entry.is_folder || name->state == SetFolder::State::kRemoving) continue;
    if (known_whole(known, std::string(kSetsFolder) + "/" + entry.name) != nullptr) continue;
    std::string seal = std::string(kSetsFolder) + "/" + entry.name + "/" + kSealFile;
    seals.push_back(seal);
    if (!keys_.empty()) seals.push_back(seal + ".minisig");
  }
  place_->fetch_ahead(seals);
}

// What rescan() reads first: a place that is far away gets it together.
void Shelf::fetch_documents() {
  std::vector<std::string> files, folders = {kHeadsFolder, kSetsFolder};
  if (!keys_.empty()) {
    files = {kLabelFile, std::string(kLabelFile) + ".minisig"};
    folders.push_back(kRetiredFolder);
  }
  place_->fetch_ahead(files, folders);
}

void Shelf::rescan() {
  sets_.clear();
  fetch_documents();
  label_vouched_ = !keys_.empty() && (look_at_label() || look_at_label());
  retired_ = keys_.empty() ? RetiredSigners{} : read_retired(*place_, label_.shelf, keys_);
  std::vector<std::string> heads = head_files(*place_), newest;
  if (!heads.empty()) newest = {heads.front(), heads.front() + ".minisig"};
  std::vector<PlaceEntry> entries = place_->list(kSetsFolder);
  fetch_seals(entries, {}, std::move(newest));
  head_ = newest_head_of(heads, *place_, label_.shelf, keys_);
  look_at_sets(entries, {});
}

void Shelf::look_again() {
  std::vector<ShelfSet> known = std::exchange(sets_, {});
  std::vector<PlaceEntry> entries = place_->list(kSetsFolder);
  fetch_seals(entries, known);
  look_at_sets(entries, known);
}

void Shelf::look_at_sets(const std::vector<PlaceEntry>& entries,
                         const std::vector<ShelfSet>& known) {
  leftovers_.clear();
  half_renamed_.clear();
  for (const PlaceEntry& entry : entries) {
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
    const ShelfSet* before = known_whole(known, folder);
    ShelfSet set = before != nullptr ? *before : read_set(name->id, folder);
    if (set.unreadable) set = read_set(name->id, folder);  // a disk may fail once
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
  check_neighbours();
}

// What the seals say of each other.
void Shelf::check_neighbours() {
  auto refuse = [](ShelfSet& set, const std::string& why) {
    set.problem = set.folder + ": " + why;
    set.problem_file = kSealFile;
    set.unreadable = true;
  };
  for (std::size_t i = 1; i < sets_.size(); ++i) {
    if (sets_[i].id != sets_[i - 1].id) continue;
    for (ShelfSet* set : {&sets_[i - 1], &sets_[i]}) {
      refuse(*set, "there are two folders of set " + set->id.to_string());
    }
  }
  std::map<std::uint64_t, ShelfSet*> by_number;
  for (ShelfSet& set : sets_) {
    if (!set.sealed()) continue;
    auto [other, first] = by_number.emplace(set.seal.number, &set);
    if (first) continue;
    for (ShelfSet* one : {other->second, &set}) {
      bool named = head_ && head_->number == one->seal.number && head_->seal == one->seal_digest;
      if (!named && one->sealed()) {
        refuse(*one, fmt::format("there are two seals of number {}", one->seal.number));
      }
    }
    if (!other->second->sealed()) other->second = &set;
  }
  // A base that is another than the one the seal names breaks the chain here.
  for (ShelfSet& set : sets_) {
    if (!set.sealed()) continue;
    const ShelfSet* before = numbered(set.seal.number - 1);
    set.exchanged = before != nullptr && set.seal.previous_seal &&
                    *set.seal.previous_seal != before->seal_digest;
    if (!set.seal.based_on) continue;
    const ShelfSet* base = find(*set.seal.based_on);
    if (base != nullptr && base->sealed() && set.seal.base_seal != base->seal_digest) {
      refuse(set,
             "it is based on another " + base->id.to_string() + " than the one that lies here");
    }
  }
}

const ShelfSet* Shelf::numbered(std::uint64_t number) const {
  auto it = std::find_if(sets_.begin(), sets_.end(),
                         [&](const ShelfSet& s) { return s.sealed() && s.seal.number == number; });
  return it == sets_.end() ? nullptr : &*it;
}

std::uint64_t Shelf::next_number() const {
  std::uint64_t highest = head_ ? head_->number : 0, unknown = 0;
  for (const ShelfSet& set : sets_) {
    if (set.sealed()) highest = std::max(highest, set.seal.number);
    unknown += set.sealed() ? 0 : 1;  // may have any of those that follow
  }
  return highest + unknown + 1;
}

std::optional<std::string> Shelf::set_back() const {
  if (!head_) return std::nullopt;
  std::string says = "its head of " + format_local(head_->when) + " names " +
                     head_->set.to_string() + " as its newest set";
  const ShelfSet* set = find(head_->set);
  if (set == nullptr) return says + ", which is not here";
  bool other =
      set->sealed() && (set->seal_digest != head_->seal || set->seal.number != head_->number);
  if (other) return says + ", and another one is here";
  return std::nullopt;
}

void Shelf::put_head(const Head& head, HeadWriter writer) {
  head_problem_.clear();
  try {
    writer.put();
    head_ = head;
  } catch (const Error& error) {
    if (error.kind() == ErrorKind::kPlace) throw;
    head_problem_ = error.message();
  }
}

void Shelf::catch_up_head(const std::vector<OtherHead>& others, Nanos now, const SigningKey& key) {
  const ShelfSet* set = newest();
  if (set == nullptr || (head_ && set->seal.number <= head_->number)) return;
  Head head{label_.shelf, set->seal.number, set->id, set->seal_digest, now, others};
  put_head(head, {*place_, head, key});
  head_ = newest_head(*place_, label_.shelf, keys_);
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

void Shelf::remove_if_allowed(const std::string& folder) {
  removed_if_allowed(*place_, [&] { place_->remove_folder(folder); });
}

void Shelf::finish_renames() {
  for (const std::string& folder : half_renamed_) {
    place_->sync_folder(folder);  // that the seal lasts is not known yet
    // Where nothing can be renamed it is a set as well.
    if (!renamed_if_offered(*place_, folder, without_suffix(folder, kUnfinishedSuffix))) break;
  }
  for (const std::string& folder : leftovers_) {
    if (folder.ends_with(kRemovingSuffix)) remove_if_allowed(folder);
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
  if (!place_->may_remove()) throw Error(ErrorKind::kFailed, place_->describe() + kMayNotRemove);
  auto taken = place_->take(set->folder + "/" + kSealFile);
  if (!taken) return false;
  check_owner();
  std::string folder = set->folder, removing = folder + std::string(kRemovingSuffix);
  if (!renamed_if_offered(*place_, folder, removing)) {
    place_->remove_file(folder + "/" + kSealFile);  // without it the folder is no set
    removing = folder;
  }
  std::erase_if(sets_, [&](const ShelfSet& s) { return s.id == id; });
  renamed();
  // Nobody finds it any more. On a disk that a program serves (FUSE) a file that is open leaves
  // another behind when it is removed, and its folder would not be empty.
  taken.reset();
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
  remove_if_allowed(removing);
  // Whoever still writes to it does not find it any more, so that nothing is sealed from here on.
  if (!renamed_if_offered(*place_, unfinished_folder, removing)) {
    bool is_set = place_->exists(unfinished_folder + "/" + kSealFile);
    if (!is_set) remove_if_allowed(unfinished_folder);
    rescan();
    return !is_set;
  }
  bool sealed = place_->exists(removing + "/" + kSealFile);
  if (sealed) {
    place_->rename(removing, unfinished_folder);
  } else {
    remove_if_allowed(removing);
  }
  place_->sync_folder(kSetsFolder);
  rescan();
  return !sealed;
}

void Shelf::check_owner() const {
  ShelfLabel now = read_label(*place_);
  if (now.shelf == label_.shelf && now.owner == label_.owner) return;
  throw Error(ErrorKind::kPlace,
              place_->describe() + ": another machine has taken over this shelf meanwhile",
              "it is left as it is; a new one for this PC: kestrum shelf start " + label_.job);
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

Digest Shelf::commit(const Seal& seal, const std::vector<OtherHead>& others, const SigningKey& key,
                     const std::string& unfinished_folder) {
  std::string text = seal.to_json();
  Digest digest = digest_of(as_bytes(text));
  Head head{seal.shelf, seal.number, seal.set, digest, seal.finished, others};
  HeadWriter next_head(*place_, head, key);
  SignedFile file(*place_, unfinished_folder + "/" + kSealFile, text, key,
                  "seal of set " + seal.set.to_string() + " of shelf " + seal.shelf);
  file.put();
  // A head must not outlive the set that it names.
  place_->sync_folder(kSetsFolder);
  put_head(head, std::move(next_head));
  std::string folder = without_suffix(unfinished_folder, kUnfinishedSuffix);
  if (!renamed_if_offered(*place_, unfinished_folder, folder)) folder = unfinished_folder;
  std::string seal_path = folder + "/" + kSealFile;
  place_->fetch_ahead({seal_path, seal_path + ".minisig"}, {kSetsFolder});
  look_again();
  return digest;
}

}  // namespace kestrum
