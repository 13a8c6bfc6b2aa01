// Who may sign on a shelf, and who did before.
#include <algorithm>
#include <array>
#include <set>

#include "kestrum/base/error.h"
#include "kestrum/shelf/shelf.h"
#include "kestrum/shelf/trust.h"

namespace kestrum {
namespace {

constexpr std::uint64_t kSignatureLimit = 1 << 20;  // bytes

}  // namespace

bool Shelf::keys_are_older() const {
  if (keys_.empty() || look_at_label()) return false;
  auto signer_of = [&](const std::string& path) -> std::optional<std::array<std::uint8_t, 8>> {
    try {
      return signer_id(read_small(*place_, path + ".minisig", kSignatureLimit));
    } catch (const Error& error) {
      if (error.kind() == ErrorKind::kPlace) throw;
      return std::nullopt;
    }
  };
  auto signer = signer_of(kLabelFile);
  if (!signer) return false;
  std::vector<std::string> files;
  for (const ShelfSet& set : sets_) files.push_back(set.folder + "/" + kSealFile);
  for (const char* folder : {kHeadsFolder, kRetiredFolder}) {
    for (const PlaceEntry& entry : place_->list(folder)) {
      if (entry.name.ends_with(".json")) files.push_back(std::string(folder) + "/" + entry.name);
    }
  }
  return std::any_of(files.begin(), files.end(),
                     [&](const std::string& file) { return signer_of(file) == signer; });
}

void Shelf::retire_signers(const std::vector<VerifyKey>& old, const std::vector<Digest>& known,
                           Nanos now, const SigningKey& key) {
  // What is not in the list counts for nothing from then on: a second look at what could not be
  // read, and all that was listed before or is known otherwise stays, readable now or not.
  auto all_read = [&] {
    return retired_.not_read.empty() &&
           std::all_of(sets_.begin(), sets_.end(), [](const ShelfSet& s) { return s.vouched; });
  };
  rescan();
  std::set<Digest> listed = retired_.seals;
  auto note_vouched = [&] {
    listed.insert(retired_.seals.begin(), retired_.seals.end());
    for (const ShelfSet& set : sets_) {
      if (set.vouched) listed.insert(set.seal_digest);
    }
  };
  note_vouched();
  if (!all_read()) {
    rescan();
    note_vouched();
  }
  if (!retired_.not_read.empty()) {
    throw Error(ErrorKind::kFailed, retired_.not_read + ": it cannot be read now");
  }
  listed.insert(known.begin(), known.end());
  std::vector<Digest> seals(listed.begin(), listed.end());
  write_retired(*place_, label_.shelf, old, seals, now, key);
  std::string of_shelf = " of shelf " + label_.shelf;
  for (const char* name : {"job.toml.age", "job.toml"}) {
    sign_anew(*place_, name, old, key, "job copy" + of_shelf);
  }
  for (const ShelfSet& set : sets_) {
    sign_anew(*place_, set.folder + "/" + kTrustedFile, old, key,
              "trust in set " + set.id.to_string() + of_shelf);
  }
  for (const char* folder : {kHeadsFolder, kRetiredFolder}) {
    for (const PlaceEntry& entry : place_->list(folder)) {
      if (entry.is_folder || !entry.name.ends_with(".json")) continue;
      sign_anew(*place_, std::string(folder) + "/" + entry.name, old, key, entry.name + of_shelf);
    }
  }
}

}  // namespace kestrum
