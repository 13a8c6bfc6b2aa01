#include "kestrum/access/mend_blocks.h"

#include <fmt/format.h>

#include <algorithm>

#include "kestrum/access/ledger_copies.h"
#include "kestrum/archive/block_digests.h"
#include "kestrum/base/error.h"

namespace kestrum {
namespace {

constexpr std::size_t kDigestBytes = sizeof(Digest);
constexpr std::uint64_t kBlocksLimit = std::uint64_t{1} << 30;  // of 32 TiB

std::string path_of(const ShelfSet& set) {
  return set.folder + "/" + kBlocksFile;
}

}  // namespace

std::optional<std::string> blocks_of(Place& place, const ShelfSet& set, const std::string& name) {
  const Seal& seal = set.seal;
  std::uint64_t from = 0, bytes = 0;
  auto part = std::find_if(seal.parts.begin(), seal.parts.end(),
                           [&](const PartInfo& p) { return p.name == name; });
  for (auto it = seal.parts.begin(); it != part; ++it) from += size_of_blocks(it->bytes);
  if (part != seal.parts.end()) {
    bytes = part->bytes;
  } else if (name == seal.ledger_name || name == seal.ledger_copy) {
    bytes = seal.ledger_bytes;
  } else {
    return std::nullopt;
  }
  try {
    auto file = place.open(path_of(set));
    bool sound = file->size() == seal.blocks_bytes && file->size() < kBlocksLimit &&
                 stored_digest_of(*file) == seal.blocks_digest;
    if (!sound) return std::nullopt;
    std::string digests(size_of_blocks(bytes), '\0');
    file->read_at(from, {reinterpret_cast<std::uint8_t*>(digests.data()), digests.size()});
    return digests;
  } catch (const Error& error) {
    if (error.kind() == ErrorKind::kPlace) throw;
    return std::nullopt;
  }
}

std::string where_it_differs(const std::string& written, const std::string& found) {
  std::size_t blocks = written.size() / kDigestBytes, differ = 0, first = 0;
  for (std::size_t i = 0; i < blocks; ++i) {
    bool same =
        written.compare(i * kDigestBytes, kDigestBytes, found, i * kDigestBytes, kDigestBytes) == 0;
    if (!same && differ++ == 0) first = i;
  }
  return fmt::format("{} of {} MiB, the first at {} MiB", differ, blocks, first);
}

std::optional<std::string> mend_blocks(Place& place, const ShelfSet& set) {
  std::string ledger;
  if (!open_sound_ledger(place, set, ledger)) return std::nullopt;
  std::string path = path_of(set), made = path + ".new";
  BlocksWriter writer(place, made);
  auto add = [&](const std::string& name) {
    writer.add(block_digests_of(*place.open(set.folder + "/" + name, true)));
  };
  try {
    for (const PartInfo& part : set.seal.parts) add(part.name);
    add(ledger);
  } catch (const Error& error) {
    place.remove_file(made);
    if (error.kind() != ErrorKind::kDamage && error.kind() != ErrorKind::kFailed) throw;
    return std::nullopt;
  }
  writer.close();
  if (writer.size() != set.seal.blocks_bytes || writer.digest() != set.seal.blocks_digest) {
    place.remove_file(made);
    return std::nullopt;
  }
  place.rename(made, path);
  place.sync_folder(set.folder);
  return set.id.to_string() + " " + kBlocksFile + " was damaged: it is worked out anew";
}

}  // namespace kestrum
