#include "kestrum/remote/store.h"

#include <algorithm>

#include "kestrum/base/file.h"

namespace kestrum {

Error Store::refusal(const std::string& path, ErrorKind kind, const std::string& why,
                     const std::string& hint) const {
  std::string where = server_->url(path);
  return Error(kind, where + ": " + why, hint).about_path(where);
}

void Store::refuse(const std::string& path, ErrorKind kind, const std::string& why,
                   const std::string& hint) const {
  throw refusal(path, kind, why, hint);
}

std::optional<Bytes> Store::read_whole(const std::string& path, std::uint64_t limit) {
  Bytes content;
  bool too_long = false;
  bool there = receive(path, {}, [&](ByteView bytes) {
    too_long = bytes.size() > limit - content.size();
    if (!too_long) content.insert(content.end(), bytes.begin(), bytes.end());
    return !too_long;
  });
  if (too_long) refuse(path, ErrorKind::kDamage, "longer than it can be");
  if (!there) return std::nullopt;
  return content;
}

bool Store::names_folder(const std::string& path) {
  auto beside = list(folder_above(path));
  if (!beside) return false;
  std::string name = base_name(path);
  return std::any_of(beside->begin(), beside->end(), [&](const PlaceEntry& entry) {
    return entry.name == name && entry.is_folder;
  });
}

}  // namespace kestrum
