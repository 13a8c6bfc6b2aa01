// A file that is written to a server while it is made.
#pragma once

#include <atomic>
#include <condition_variable>
#include <memory>
#include <mutex>
#include <string>
#include <thread>

#include "kestrum/place/place.h"
#include "kestrum/remote/retry.h"
#include "kestrum/remote/store.h"

namespace kestrum {

// By a protocol that can go on with a file: what was written and is perhaps not on the server yet
// is kept, so that an upload that breaks goes on where the server's file ends. Used by one thread;
// another one sends.
class Upload : public PlaceFile {
 public:
  Upload(std::shared_ptr<Store> store, std::string path, std::string name);
  ~Upload() override;  // breaks off what was not synced
  void write(ByteView bytes) override;
  void end() override;
  // Ends the file: the server has taken all of it, and says that it is as long.
  void sync() override;
  bool sync_again() const override { return true; }

 private:
  void send();  // by the other thread: all of the file, in as many goes as it takes
  void go(Retry& retry);
  std::optional<std::uint64_t> settled_size();
  std::uint64_t where_to_go_on();
  void full_disk_is_told();
  std::optional<std::size_t> fill(std::span<std::uint8_t> out);
  bool ready();
  void note_arrived(std::size_t bytes);
  void start();
  void rethrow(std::unique_lock<std::mutex>& lock);

  std::shared_ptr<Store> store_;
  std::string path_, name_;          // on the server, and as messages have it
  bool tells_;                       // the store does what arrived
  std::uint64_t on_the_way_, ring_;  // bytes; `ring_` is how many are kept
  std::mutex mutex_;
  std::condition_variable changed_;
  Bytes kept_;  // a ring: the file's bytes from kept_from_ to written_
  std::uint64_t kept_from_ = 0;
  std::uint64_t written_ = 0;    // bytes of the file that were handed to this object
  std::uint64_t sent_ = 0;       // of them, those that were handed on
  std::size_t taken_ = 0;        // of a write that found no room
  std::uint64_t went_from_ = 0;  // where the last of them began; the sender's own
  std::size_t stuck_ = 0;
  std::size_t goes_ = 0;  // how often sending it was begun; the sender's own
  bool ended_ = false, done_ = false;
  std::atomic<bool> broken_off_ = false;
  std::exception_ptr failure_;
  std::thread sender_;
};

}  // namespace kestrum
