#include "kestrum/access/ledger_copies.h"

#include "kestrum/archive/packed_file.h"
#include "kestrum/base/error.h"

namespace kestrum {

namespace {

// A copy that is as it was written; nothing if it is not.
std::unique_ptr<ByteSource> open_copy(Place& place, const ShelfSet& set, const std::string& name,
                                      bool from_disk) {
  std::string path = set.folder + "/" + name;
  try {
    auto file = place.open(path, from_disk);
    if (file->size() != set.seal.ledger_bytes) return nullptr;
    std::string digests = block_digests_of(*file);
    if (digest_of_blocks(digests) != set.seal.ledger_digest) return nullptr;
    return std::make_unique<CheckedSource>(std::move(file), std::move(digests), path);
  } catch (const Error& error) {
    if (error.kind() == ErrorKind::kPlace) throw;
    return nullptr;
  }
}

}  // namespace

bool is_sound_ledger(Place& place, const ShelfSet& set, const std::string& name, bool from_disk) {
  return open_copy(place, set, name, from_disk) != nullptr;
}

std::unique_ptr<ByteSource> open_sound_ledger(Place& place, const ShelfSet& set,
                                              std::string& name) {
  for (const std::string& copy : {set.seal.ledger_name, set.seal.ledger_copy}) {
    auto file = open_copy(place, set, copy, false);
    if (!file) continue;
    name = copy;
    return file;
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
