// The folder that a restore writes to. Nothing is written outside it (base/below.h); links at it
// and above it are followed where that is safe (base/followed.h).
#pragma once

#include <functional>
#include <map>
#include <memory>
#include <string>
#include <vector>

#include "kestrum/archive/entry.h"
#include "kestrum/base/file.h"

namespace kestrum {

// What could not be set because the user may not; counted, not fatal.
struct UnsetMetadata {
  std::uint64_t owners = 0, attributes = 0, modes = 0;
  std::uint64_t unmatched = 0;   // entries whose owner this PC does not know by name
  std::uint64_t privileges = 0;  // entries whose setuid bit or capabilities nothing vouches for

  UnsetMetadata& operator+=(const UnsetMetadata& other);
};

// Whose restored files are: the owner they had, by name where this PC knows it and otherwise by
// number; by number; or whoever restores.
enum class OwnerRule { kNames, kNumbers, kMe };

// Used by one thread.
class TargetFolder {
 public:
  // Creates `folder` if it is not there; without `make` nothing is ever made, and what would lie in
  // folders that are not there is not there. Throws Error.
  // `making` is told of every folder right before it is made (absolute); may be empty.
  using Making = std::function<void(const std::string&)>;
  explicit TargetFolder(std::string folder, OwnerRule owner = OwnerRule::kNames, bool make = true,
                        Making making = {});

  bool was_made() const { return made_; }  // the folder itself
  const std::string& folder() const { return folder_; }

  // The folder `relative` ("" is the target itself), with those above it made as needed, mode 0700.
  // Throws Error(kFailed) if a link or a file is in the way. Valid until the next call. -1 if it is
  // not there and nothing is made.
  int folder_fd(const std::string& relative);
  // True if it was made, false if it was there.
  bool make_folder(const std::string& relative);
  // Whether something has this name already.
  bool exists(const std::string& relative, struct stat* st = nullptr);
  // Of something that exists: whether it has this very name, rather than one that the filesystem
  // takes for the same, such as one that differs in case.
  bool has_this_name(const std::string& relative);
  // What a link reads; empty if it is none.
  std::string read_link(const std::string& relative);
  // Puts an empty folder in the place of a file that has its name, in as few steps as there are.
  void replace_by_folder(const std::string& relative);

  // Where a file is to go: its folder held open, so that it can be written by any thread. The spots
  // in one folder that follow each other share it.
  struct Spot {
    std::shared_ptr<const Fd> parent;
    std::string name, shown;  // in the folder; as a path
    bool sync_each = false;   // syncing the filesystem as a whole does nothing there
    bool unnamed = false;     // a file may get its name only when it is right
  };
  Spot spot(const std::string& relative);

  // Whose something is to be; -1: it stays with who restores.
  struct Owner {
    uid_t user;
    gid_t group;
  };
  // The mode that a file may have from the start: whoever owns it until it gets its owner and its
  // attributes, nobody may do more than in the end.
  static mode_t first_mode(const Entry& entry);

  // A file that is written without a name, or where a filesystem has no such files under a
  // temporary one, and takes its own name only when it is right. At one time one of a name.
  class NewFile {
   public:
    explicit NewFile(Spot spot, mode_t mode = 0600);
    NewFile(TargetFolder& tree, const std::string& relative) : NewFile(tree.spot(relative)) {}
    ~NewFile();  // removes it unless it was kept
    int fd() const { return fd_.get(); }
    // As TargetFolder's, without the calls for what is so already.
    void set_metadata(const Entry& entry, Owner owner, UnsetMetadata& unset);
    // Takes its name. False if something has it: with `replace` a folder that is not empty,
    // otherwise anything. What takes the place of something is synced before.
    bool keep(bool replace = false);

   private:
    void make_named(mode_t mode);
    void take_temporary_name();

    Spot spot_;
    Fd fd_;
    std::string temporary_;  // empty while it has no name
  };

  // Removes what a restore left that was killed right after it put this name in its place.
  void drop_left_behind(const std::string& relative);
  // Each is false if the name is taken, with `replace` by a folder that is not empty.
  bool make_link(const std::string& relative, const Entry& entry, UnsetMetadata& unset,
                 bool replace = false);
  bool make_fifo_or_device(const std::string& relative, const Entry& entry, UnsetMetadata& unset,
                           bool replace = false);
  // `existing` lies in the tree `from`.
  bool make_hardlink(TargetFolder& from, const std::string& existing, const std::string& relative,
                     bool replace = false);

  Owner owner_of(const Entry& entry);
  // Owner (by name, then number), mode, attributes, times; of an open file or folder.
  void set_metadata(int fd, const Entry& entry, UnsetMetadata& unset) {
    set_metadata(fd, entry, owner_of(entry), unset);
  }
  static void set_metadata(int fd, const Entry& entry, Owner owner, UnsetMetadata& unset);
  void set_folder_metadata(const std::string& relative, const Entry& entry, UnsetMetadata& unset);
  // Returns when all that was written to its filesystem would survive a power cut.
  void sync();
  // Nothing where nothing is made.
  std::shared_ptr<const Fd> root() const { return root_; }
  // Entries whose owner or group this PC does not know by name.
  std::uint64_t unmatched_owners() const { return unmatched_; }

 private:
  // Calls make(parent, name) with a name that is free, then moves it to where it belongs.
  bool put(const std::string& relative, bool replace,
           const std::function<bool(int parent, const std::string& name)>& make);
  // Of a link, a FIFO or a device (`type`, as of S_IFMT) that was made right now.
  void set_metadata_of_made(int parent, const std::string& name, mode_t type, const Entry& entry,
                            UnsetMetadata& unset);
  bool has_unnamed_files(int folder);
  uid_t user_of(const Entry& entry);
  gid_t group_of(const Entry& entry);

  std::string folder_;
  OwnerRule owner_;
  bool make_;
  Making making_;
  std::shared_ptr<const Fd> root_;
  bool made_ = false;
  bool sync_each_ = false;
  std::uint64_t unmatched_ = 0;
  struct Level {
    std::string path;  // from the target on
    std::shared_ptr<const Fd> fd;
  };
  std::vector<Level> open_;  // from the target down to the folder that was asked for last
  std::map<std::string, long> users_, groups_;
  std::map<dev_t, bool> unnamed_;  // whether a filesystem has files that get their names later
};

}  // namespace kestrum
