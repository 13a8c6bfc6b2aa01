// Hears of changes in a job's folders (inotify(7)).
#pragma once

#include <string>
#include <unordered_map>
#include <vector>

#include "kestrum/base/file.h"
#include "kestrum/select/selection.h"
#include "kestrum/select/source_tree.h"

namespace kestrum {

class FolderWatcher {
 public:
  // Watches `roots` (absolute, folded) and all below that `selection` takes; both outlive it.
  // Memory grows with the number of folders: some hundred bytes each, none for files.
  FolderWatcher(std::vector<std::string> roots, const Selection& selection);

  int fd() const { return fd_.get(); }
  // Reads what has happened since the last call; true if anything that the selection takes may have
  // changed. Never blocks.
  bool changed();

  std::size_t watches() const { return folders_.size(); }
  // The system allows no more watches: changes may go unheard, and the folders want a look.
  bool incomplete() const { return incomplete_; }

 private:
  struct Folder {
    int parent = -1;   // watch of the folder above; -1: `name` is a whole path
    std::string name;  // relative to "/" for a root
  };
  void watch_all();
  void watch_tree(const std::string& path, bool from_scratch);
  void watch(const std::string& path);
  std::string path_of(int watch) const;
  bool concerns(const std::string& path, bool is_folder) const;

  std::vector<std::string> roots_;
  SourceTree source_;
  const Selection& selection_;
  Fd fd_;
  std::unordered_map<int, Folder> folders_;
  std::vector<std::pair<std::string, int>> above_;  // folders above the one being watched
  bool incomplete_ = false;
};

}  // namespace kestrum
