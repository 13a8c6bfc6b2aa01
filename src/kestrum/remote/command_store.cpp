#include "kestrum/remote/command_store.h"

#include "kestrum/base/file.h"

namespace kestrum {

bool CommandStore::make_folder(const std::string& path) {
  auto refused = command(Verb::kMakeFolder, path);
  if (!refused || exists(path)) return true;
  if (!exists(parent_of(path))) return false;
  throw Error(*refused);
}

void CommandStore::remove_file(const std::string& path) {
  auto refused = command(Verb::kRemoveFile, path);
  if (refused && exists(path)) throw Error(*refused);
}

void CommandStore::remove_folder(const std::string& path) {
  auto entries = list(path);
  if (!entries) return;
  for (const PlaceEntry& entry : *entries) {
    std::string inside = path_below(path, entry.name);
    entry.is_folder ? remove_folder(inside) : remove_file(inside);
  }
  auto refused = command(Verb::kRemoveFolder, path);
  if (refused && exists(path)) throw Error(*refused);
}

void CommandStore::rename(const std::string& from, const std::string& to) {
  if (auto refused = command(Verb::kRename, from, to)) throw Error(*refused);
}

}  // namespace kestrum
