// Folders that lie somewhere else than they did: what was in the first of a pair is in the second.
#pragma once

#include <string>
#include <utility>
#include <vector>

namespace kestrum {

using FolderMap = std::vector<std::pair<std::string, std::string>>;  // absolute folders

// Of the pairs the one whose first folder is the deepest that holds the absolute `path`; nullptr if
// none does.
const FolderMap::value_type* pair_for(const FolderMap& map, const std::string& path);

// Where the absolute `path` is by the map; itself where the map says nothing of it.
std::string mapped(const FolderMap& map, const std::string& path);

// The map that leads back.
FolderMap reversed(const FolderMap& map);

}  // namespace kestrum
