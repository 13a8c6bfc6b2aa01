#include "kestrum/access/ledger_copies.h"

#include "kestrum/archive/packed_file.h"
#include "kestrum/base/error.h"

namespace kestrum {

bool is_sound_ledger(Place& place, const ShelfSet& set, const std::string& name, bool from_disk) {
  try {
    auto file = place.open(set.folder + "/" + name, from_disk);
    return file->size() == set.seal.ledger_bytes &&
           stored_digest_of(*file) == set.seal.ledger_digest;
  } catch (const Error& error) {
    if (error.kind() == ErrorKind::kPlace) throw;
    return false;
  }
}

std::optional<std::string> sound_ledger(Place& place, const ShelfSet& set) {
  for (const std::string& name : {set.seal.ledger_name, set.seal.ledger_copy}) {
    if (is_sound_ledger(place, set, name, false)) return name;
  }
  return std::nullopt;
}

std::unique_ptr<ByteSource> open_sound_ledger(Place& place, const ShelfSet& set,
                                              std::string& name) {
  for (const std::string& copy : {set.seal.ledger_name, set.seal.ledger_copy}) {
    std::string path = set.folder + "/" + copy;
    try {
      auto file = place.open(path);
      if (file->size() != set.seal.ledger_bytes) continue;
      std::string digests = block_digests_of(*file);
      if (digest_of_blocks(digests) != set.seal.ledger_digest) continue;
      name = copy;
      return std::make_unique<CheckedSource>(std::move(file), std::move(digests), path);
    } catch (const Error& error) {
      if (error.kind() == ErrorKind::kPlace) throw;
    }
  }
  return nullptr;
}

std::string mend_ledger(Place& place, const ShelfSet& set, const std::string& damaged) {
  const std::string& sound = set.seal.other_ledger(damaged);
  copy_file(place, set.folder + "/" + sound, set.folder + "/" + damaged);
  place.sync_folder(set.folder);
  return set.id.to_string() + " " + damaged + " was damaged: it is mended from " + sound;
}

}  // namespace kestrum
