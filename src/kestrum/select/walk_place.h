// Where a walk found something: a name in a folder that is held open.
#pragma once

#include <map>
#include <memory>
#include <string>

#include "kestrum/base/file.h"

namespace kestrum {

// Extended attributes. Those that cannot be read are left out, and `error` says why (errno).
struct Attributes {
  std::map<std::string, std::string> values;
  int error = 0;
};
Attributes file_xattrs(int fd);

// Can be kept, and used by any thread. Opening does not follow links and does not block; nothing
// and errno set if it cannot be opened.
class WalkPlace {
 public:
  // `name` "" is the folder itself.
  void set(const std::shared_ptr<const Fd>& folder, const std::string& name) {
    folder_ = folder;
    name_ = name;
  }
  void clear() {
    folder_.reset();
    name_.clear();
  }
  bool has_folder_of(const WalkPlace& other) const { return folder_ == other.folder_; }
  Fd open_file() const;
  // The text of a symbolic link; false and errno set on failure.
  bool read_link(std::string& target) const;
  Attributes xattrs() const;
  // Whether its filesystem keeps inode numbers and ctimes from one mount to the next.
  bool has_lasting_inodes() const;

 private:
  int folder() const { return folder_ == nullptr ? -1 : folder_->get(); }
  std::shared_ptr<const Fd> folder_;
  std::string name_;
};

}  // namespace kestrum
