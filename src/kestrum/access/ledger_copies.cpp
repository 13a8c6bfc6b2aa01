#include "kestrum/access/ledger_copies.h"

#include "kestrum/archive/packed_file.h"
#include "kestrum/base/error.h"

namespace kestrum {
namespace {

bool is_sound(Place& place, const ShelfSet& set, const std::string& name, const StopRequest& stop) {
  try {
    auto file = place.open(set.folder + "/" + name, true);
    return file->size() == set.seal.ledger_bytes &&
           digest_of_file(*file, stop) == set.seal.ledger_digest;
  } catch (const Error& error) {
    if (error.kind() == ErrorKind::kPlace || error.kind() == ErrorKind::kStopped) throw;
    return false;
  }
}

}  // namespace

std::optional<std::string> sound_ledger(Place& place, const ShelfSet& set,
                                        const StopRequest& stop) {
  for (const std::string& name : {set.seal.ledger_name, set.seal.ledger_copy}) {
    if (is_sound(place, set, name, stop)) return set.folder + "/" + name;
  }
  return std::nullopt;
}

std::string mend_ledger(Place& place, const ShelfSet& set, const std::string& damaged,
                        const std::string& sound) {
  copy_file(place, set.folder + "/" + sound, set.folder + "/" + damaged);
  place.sync_folder(set.folder);
  return set.id.to_string() + " " + damaged + " was damaged: it is mended from " + sound;
}

std::optional<std::string> mend_ledger_by_size(Place& place, const ShelfSet& set) {
  std::optional<std::uint64_t> ledger, copy;
  for (const PlaceEntry& entry : place.list(set.folder)) {
    if (entry.is_folder) continue;
    if (entry.name == set.seal.ledger_name) ledger = entry.size;
    if (entry.name == set.seal.ledger_copy) copy = entry.size;
  }
  bool ledger_fits = ledger == set.seal.ledger_bytes, copy_fits = copy == set.seal.ledger_bytes;
  if (ledger_fits == copy_fits) return std::nullopt;
  const std::string& sound = ledger_fits ? set.seal.ledger_name : set.seal.ledger_copy;
  if (!is_sound(place, set, sound, {})) return std::nullopt;
  return mend_ledger(place, set, ledger_fits ? set.seal.ledger_copy : set.seal.ledger_name, sound);
}

}  // namespace kestrum
