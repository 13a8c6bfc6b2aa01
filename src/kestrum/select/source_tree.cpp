#include "kestrum/select/source_tree.h"

#include <fcntl.h>

#include <algorithm>

#include "kestrum/base/below.h"
#include "kestrum/base/followed.h"

namespace kestrum {

SourceTree::SourceTree(const std::vector<std::string>& roots) {
  for (const std::string& root : roots) roots_.push_back(root.substr(1));
  std::sort(roots_.begin(), roots_.end(),
            [](const std::string& a, const std::string& b) { return a.size() > b.size(); });
}

SourceTree::Place SourceTree::place_of(const std::string& path) const {
  auto root = std::find_if(roots_.begin(), roots_.end(),
                           [&](const std::string& r) { return is_within(path, r); });
  // A root may be a file itself, and what lies in none is a folder on the way to one.
  if (root == roots_.end() || *root == path) {
    Followed at = follow(AT_FDCWD, "/" + path);
    struct stat st {};
    bool right =
        at && (at.owners.empty() || (below::look(at.parent.get(), at.name, st) && at.allows(st)));
    return right ? Place{std::move(at.parent), at.name} : Place{};
  }
  Fd folder = open_named("/" + *root, O_PATH | O_DIRECTORY);
  return {std::move(folder), path.substr(root->empty() ? 0 : root->size() + 1)};
}

Fd SourceTree::open_file(const std::string& path) const {
  Place at = place_of(path);
  return at.folder ? below::open_regular(at.folder.get(), at.path, O_RDONLY) : Fd();
}

Fd SourceTree::open_folder(const std::string& path) const {
  Place at = place_of(path);
  return at.folder ? below::open_folder(at.folder.get(), at.path) : Fd();
}

bool SourceTree::look(const std::string& path, struct stat& st) const {
  Place at = place_of(path);
  return at.folder && below::look(at.folder.get(), at.path, st);
}

}  // namespace kestrum
