// Where shelves live. All destination I/O goes through this interface, so that a test can put a
// faulty place (full, vanishing, torn, slow) under the real engine.
#pragma once

#include <cstdint>
#include <functional>
#include <memory>
#include <optional>
#include <string>
#include <vector>

#include "kestrum/base/bytes.h"

namespace kestrum {

// A file being written, from front to back. A write that throws Error(kNoRoom) has left the file as
// it was, and can be tried again.
class PlaceFile : public ByteSink {
 public:
  // That nothing more is written: what sync() would wait for begins, where it takes long. What goes
  // wrong is for sync() to tell.
  virtual void end() {}
  // Returns when all that was written would survive a power cut.
  virtual void sync() = 0;
  // Whether a sync that throws Error(kNoRoom) can be made again, as a write can.
  virtual bool sync_again() const { return false; }
};

struct PlaceEntry {
  std::string name;
  bool is_folder = false;
  std::uint64_t size = 0;  // bytes
};

// How a file is read from its beginning while it is still being written.
struct Following {
  // Up to which byte it may be read, for who has read up to `at`: waits until that is more. `at`
  // itself when nothing comes any more.
  std::function<std::uint64_t(std::uint64_t at)> until;
  std::function<void(ByteView)> sink;
  std::function<bool()> given_up;
};

// Keeps something from being removed, or from being read, until it is destroyed.
class PlaceHold {
 public:
  virtual ~PlaceHold() = default;
};

struct Room {
  std::uint64_t free = 0, total = 0;  // bytes, as far as this user may use them
};

// Paths are relative to the place's own folder, with '/' between names. Every call throws Error
// naming the path: kNoRoom when the disk is full, kPlace when the folder itself is gone, kFailed
// otherwise.
class Place {
 public:
  virtual ~Place() = default;

  // How to name this place to the user.
  virtual std::string describe() const = 0;

  virtual bool exists(const std::string& path) = 0;
  // In byte order of names. Empty for a folder that does not exist.
  virtual std::vector<PlaceEntry> list(const std::string& path) = 0;
  virtual void make_folder(const std::string& path) = 0;  // parents as well; may exist
  // Creates or truncates.
  virtual std::unique_ptr<PlaceFile> create(const std::string& path) = 0;
  // With `from_disk` past the page cache, where the filesystem allows.
  virtual std::unique_ptr<ByteSource> open(const std::string& path, bool from_disk = false) = 0;
  // The same for a small file that is read as a whole, of at most `limit` bytes. Throws
  // Error(kDamage), now or when it is read, if it is longer.
  virtual std::unique_ptr<ByteSource> open_whole(const std::string& path, std::uint64_t limit,
                                                 bool from_disk = false) {
    (void)limit;
    return open(path, from_disk);
  }
  // That these small files are opened next, and these folders listed, each once: a place that is
  // far away gets them together.
  virtual void fetch_ahead(const std::vector<std::string>& files,
                           const std::vector<std::string>& folders = {}) {
    (void)files;
    (void)folders;
  }
  // Whether a call mostly waits for an answer, so that two at once take no longer than one.
  virtual bool is_far() const { return false; }
  // How far behind its end a file that is being written is best left alone by who reads it back
  // meanwhile, and how much at a time he reads, in bytes: what was written last is on its way, and
  // a disk with a moving head reads and writes long stretches.
  virtual std::uint64_t behind_writer() const { return std::uint64_t{32} << 20; }
  // Reads a file as `following` says. False, and nothing was read, where who opens it again and
  // again does as well.
  virtual bool follow(const std::string& path, const Following& following) {
    (void)path;
    (void)following;
    return false;
  }
  virtual void rename(const std::string& from, const std::string& to) = 0;
  virtual void remove_file(const std::string& path) = 0;              // need not exist
  virtual void remove_files(const std::vector<std::string>& paths) {  // the same, in any order
    for (const std::string& path : paths) remove_file(path);
  }
  virtual void remove_folder(const std::string& path) = 0;  // with all in it; need not exist
  // Whether what is there can be removed: an account on a server may be one that adds and renames,
  // and no more.
  virtual bool may_remove() { return true; }
  // Whether what is there can be given another name: not every server lets anybody. Asked only once
  // a rename was refused; files are copied then, by rename() itself.
  virtual bool may_rename() { return true; }
  // Writes noise over a small file where it lies, synced, so that what it said is not left in
  // blocks that are free again; need not exist. A disk or server may write it elsewhere all the
  // same.
  virtual void overwrite(const std::string& path);
  // Makes creations, renames and removals in a folder survive a power cut.
  virtual void sync_folder(const std::string& path) = 0;
  // Nothing where nobody can say, as on many servers.
  virtual std::optional<Room> room() = 0;
  // Holds a file for reading: whoever takes it to remove it, also on another PC where the
  // filesystem has locks, finds it in use. Nothing if it is being removed. Where there are no
  // locks, or the file is not there, the hold holds nothing.
  virtual std::unique_ptr<PlaceHold> hold(const std::string& path) = 0;
  // The other side: nothing while anybody holds it.
  virtual std::unique_ptr<PlaceHold> take(const std::string& path) = 0;
};

// Passes every call on; what is built on it changes some of them. `below` outlives it. Whole files
// are opened by its own open(), so that whoever changes that changes both.
class ForwardingPlace : public Place {
 public:
  explicit ForwardingPlace(Place& below) : below_(below) {}
  std::string describe() const override { return below_.describe(); }
  bool exists(const std::string& path) override { return below_.exists(path); }
  std::vector<PlaceEntry> list(const std::string& path) override { return below_.list(path); }
  void make_folder(const std::string& path) override { below_.make_folder(path); }
  std::unique_ptr<PlaceFile> create(const std::string& path) override {
    return below_.create(path);
  }
  std::unique_ptr<ByteSource> open(const std::string& path, bool from_disk) override {
    return below_.open(path, from_disk);
  }
  void fetch_ahead(const std::vector<std::string>& files,
                   const std::vector<std::string>& folders) override {
    below_.fetch_ahead(files, folders);
  }
  bool is_far() const override { return below_.is_far(); }
  std::uint64_t behind_writer() const override { return below_.behind_writer(); }
  bool follow(const std::string& path, const Following& following) override {
    return below_.follow(path, following);
  }
  void rename(const std::string& from, const std::string& to) override { below_.rename(from, to); }
  void remove_file(const std::string& path) override { below_.remove_file(path); }
  void remove_folder(const std::string& path) override { below_.remove_folder(path); }
  bool may_remove() override { return below_.may_remove(); }
  bool may_rename() override { return below_.may_rename(); }
  void overwrite(const std::string& path) override { below_.overwrite(path); }
  void sync_folder(const std::string& path) override { below_.sync_folder(path); }
  std::optional<Room> room() override { return below_.room(); }
  std::unique_ptr<PlaceHold> hold(const std::string& path) override { return below_.hold(path); }
  std::unique_ptr<PlaceHold> take(const std::string& path) override { return below_.take(path); }

 protected:
  Place& below_;
};

// Makes a removal of what is of no more use; where this account may not remove anything, it stays.
// Whether it is gone.
bool removed_if_allowed(Place& place, const std::function<void()>& removal);

// Renames a folder, and makes that last, where the place renames anything; false, and nothing is
// done, where it does not.
bool renamed_if_offered(Place& place, const std::string& from, const std::string& to);

// The whole of a small file; throws Error(kDamage) if it is longer than `limit` bytes.
std::string read_small(Place& place, const std::string& path, std::uint64_t limit = 16 << 20);
// All of one file into another, synced; `each` gets every piece as well.
void copy_bytes(ByteSource& from, PlaceFile& to, const std::function<void(ByteView)>& each = {});
// The same bytes under another name, synced; with what has that name already replaced.
void copy_file(Place& place, const std::string& from, const std::string& to);
// Writes to a temporary name, syncs, renames, syncs the folder.
void write_small(Place& place, const std::string& path, std::string_view text);

}  // namespace kestrum
