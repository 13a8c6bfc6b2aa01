#include "kestrum/machine/own_folders.h"

#include <sys/stat.h>

#include "kestrum/base/file.h"
#include "kestrum/base/followed.h"
#include "kestrum/base/text.h"
#include "kestrum/place/address.h"

namespace kestrum {
namespace {

std::string set_aside_list(const MachineState& machine) {
  return machine.folder() + "/set-aside";
}

std::optional<std::pair<dev_t, ino_t>> folder_id(const std::string& path) {
  struct stat st {};
  if (!look_named(path, st)) return std::nullopt;
  return std::pair(st.st_dev, st.st_ino);
}

}  // namespace

std::vector<std::pair<dev_t, ino_t>> own_folders(const MachineState& machine,
                                                 const std::string& shelf_path) {
  std::vector<std::string> paths = {machine.folder()};
  if (!shelf_path.empty() && !is_remote(shelf_path)) paths.push_back(shelf_path);
  for (const ShelfState& state : machine.shelves()) {
    if (is_remote(state.record.place)) continue;
    paths.push_back(state.record.place + "/" + state.record.folder);
  }
  std::vector<std::string> aside = set_aside_folders(machine);
  paths.insert(paths.end(), aside.begin(), aside.end());
  std::vector<std::pair<dev_t, ino_t>> ids;
  for (const auto& path : paths) {
    if (auto id = folder_id(path)) ids.push_back(*id);
  }
  return ids;
}

void add_set_aside_folder(const MachineState& machine, const std::string& folder) {
  std::string list = set_aside_list(machine);
  std::string known = path_exists(list) ? read_file(list) : "";
  write_file(list, known + folder + '\0');
}

std::vector<std::string> set_aside_folders(const MachineState& machine) {
  std::string list = set_aside_list(machine);
  if (!path_exists(list)) return {};
  std::vector<std::string> folders = split(read_file(list), '\0');
  std::erase(folders, "");
  return folders;
}

}  // namespace kestrum
