// The folder that a restore writes to. Nothing is written outside it: every folder on the way is
// opened without following links.
#pragma once

#include <map>
#include <string>

#include "kestrum/archive/entry.h"
#include "kestrum/base/file.h"

namespace kestrum {

// What could not be set because the user may not; counted, not fatal.
struct UnsetMetadata {
  std::uint64_t owners = 0, attributes = 0, modes = 0;
};

// The folder of a relative path; "" for a name without one.
std::string folder_above(const std::string& relative);

class TargetTree {
 public:
  // Creates `folder` if it is not there. Throws Error.
  explicit TargetTree(std::string folder);

  bool was_made() const { return made_; }  // the folder itself
  const std::string& folder() const { return folder_; }

  // The folder `relative` ("" is the target itself), with those above it made as needed, mode 0700.
  // Throws Error(kFailed) if a link or a file is in the way. Valid until the next call.
  int folder_fd(const std::string& relative);
  // True if it was made, false if it was there.
  bool make_folder(const std::string& relative);
  // Whether something has this name already.
  bool exists(const std::string& relative, struct stat* st = nullptr);

  // A file that is written under a temporary name and takes its own name only when it is right.
  class NewFile {
   public:
    NewFile(TargetTree& tree, const std::string& relative);
    ~NewFile();  // removes it unless it was kept
    int fd() const { return fd_.get(); }
    // False if something took the name in the meantime.
    bool keep();

   private:
    Fd parent_, fd_;
    std::string name_, temporary_;
    bool kept_ = false;
  };

  // Each is false if the name is taken.
  bool make_link(const std::string& relative, const Entry& entry);
  bool make_fifo_or_device(const std::string& relative, const Entry& entry);
  bool make_hardlink(const std::string& existing, const std::string& relative);

  // Owner (by name, then number), mode, attributes, times; of an open file or folder.
  void set_metadata(int fd, const Entry& entry, UnsetMetadata& unset);
  void set_folder_metadata(const std::string& relative, const Entry& entry, UnsetMetadata& unset);

 private:
  void set_metadata_at(int parent, const std::string& name, const Entry& entry,
                       UnsetMetadata& unset);
  uid_t owner_of(const Entry& entry);
  gid_t group_of(const Entry& entry);

  std::string folder_;
  Fd root_;
  bool made_ = false;
  std::string open_path_;  // of open_
  Fd open_;
  bool open_valid_ = false;
  std::map<std::string, long> users_, groups_;
  UnsetMetadata ignored_;
};

}  // namespace kestrum
