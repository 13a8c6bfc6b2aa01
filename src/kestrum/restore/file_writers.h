// Restores the content of files on several threads.
#pragma once

#include <atomic>
#include <condition_variable>
#include <deque>
#include <exception>
#include <functional>
#include <memory>
#include <mutex>
#include <set>
#include <thread>
#include <utility>
#include <vector>

#include "kestrum/restore/content_reader.h"
#include "kestrum/restore/placement.h"

namespace kestrum {

// One file: all that is needed to write it, and what became of it.
struct FileJob {
  IndexEntry entry;
  Entry metadata;  // what it gets
  ContentLocation location;
  Placement placement;
  TargetFolder::Spot spot;
  TargetFolder::Owner owner;

  bool made = false;  // false: its name was taken meanwhile
  UnsetMetadata unset;
  std::exception_ptr error;
  bool told = false;
};

// Its calls come from one thread, which hears of each file in the order in which they were given.
// Neighbours in a set's tar go to one thread, so that each block of it is unpacked about once.
class FileWriters {
 public:
  using NewReader = std::function<std::unique_ptr<ContentReader>()>;
  struct Listener {
    std::function<void(FileJob&)> done;  // may throw, which ends add() or drain()
    std::function<void()> waiting;       // now and then, while something is waited for
  };
  FileWriters(NewReader new_reader, StopRequest stop, Listener listener);
  ~FileWriters();  // gives up what is not done, and tells nothing

  // May wait, and tell of files that were given before.
  void add(FileJob job);
  // Whether a file that was given is not told of yet and goes to this place.
  bool has(const TargetPath& at) const;
  // Returns when everything that was given was told of.
  void drain();
  // After drain(): closes all that was opened to read from.
  void close_readers();
  // Ends what is under way, and tells only of files that were written.
  void give_up();
  std::uint64_t bytes() const { return bytes_; }  // of content that was read

 private:
  struct Batch {
    std::vector<FileJob> files;
    std::size_t folders = 0;
    std::atomic<bool> done = false;
  };
  void stop_threads();
  void submit();
  void tell_oldest();
  void work();
  void write(FileJob& job, ContentReader& reader);

  NewReader new_reader_;
  StopRequest stop_;
  Listener listener_;
  std::set<std::pair<const TargetFolder*, std::string>> under_way_;
  std::unique_ptr<Batch> filling_;
  std::size_t batches_ = 0;                   // that were given
  std::deque<std::unique_ptr<Batch>> given_;  // in order, until they are told of
  std::atomic<std::uint64_t> bytes_ = 0;

  std::mutex mutex_;
  std::condition_variable changed_;
  std::deque<Batch*> waiting_;
  std::atomic<bool> given_up_ = false;
  std::vector<std::thread> threads_;
};

}  // namespace kestrum
