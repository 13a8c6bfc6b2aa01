#include "kestrum/base/folder_map.h"

#include "kestrum/base/file.h"

namespace kestrum {

const FolderMap::value_type* pair_for(const FolderMap& map, const std::string& path) {
  const FolderMap::value_type* best = nullptr;
  for (const auto& pair : map) {
    if (!is_within(path, pair.first)) continue;
    if (best == nullptr || best->first.size() < pair.first.size()) best = &pair;
  }
  return best;
}

std::string mapped(const FolderMap& map, const std::string& path) {
  const auto* pair = pair_for(map, path);
  return pair == nullptr ? path : path_below(pair->second, relative_to(path, pair->first));
}

FolderMap reversed(const FolderMap& map) {
  FolderMap back;
  for (const auto& [there, here] : map) back.emplace_back(here, there);
  return back;
}

}  // namespace kestrum
