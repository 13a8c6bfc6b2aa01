// Reads a file back from the disk while it is still being written, some way behind.
#pragma once

#include <condition_variable>
#include <cstdint>
#include <mutex>
#include <optional>
#include <string>
#include <thread>

#include "kestrum/archive/block_digests.h"
#include "kestrum/base/clock.h"
#include "kestrum/place/place.h"

namespace kestrum {

// Its calls come from one thread. There is another one only for a file that becomes large: it reads
// long stretches, so that a disk with a moving head does little else than read and write.
class ReadBehind {
 public:
  // `place` outlives it.
  ReadBehind(Place& place, std::string path);
  ~ReadBehind();  // gives up

  // So many bytes of the file were given to the place.
  void written(std::uint64_t size);
  // After the file was written to its end, and lies on the disk: whether the disk gave these blocks
  // back (BlockDigester::finish). False also where nothing was read, or something went wrong: then
  // whoever asks reads it back himself.
  bool gave_back(std::uint64_t size, const std::string& blocks);
  // How long it read, without what it waited for; after gave_back().
  Nanos busy() const { return busy_; }

 private:
  void run();
  bool follow();  // in one go, where the place offers it
  void read(std::uint64_t until);

  Place& place_;
  std::string path_;
  std::uint64_t distance_;  // to the end of what is written, and what is read at a time; bytes
  std::uint64_t read_ = 0;  // by the thread alone, as the next two
  Nanos busy_ = 0;
  BlockDigester digester_;

  std::mutex mutex_;
  std::condition_variable changed_;
  std::uint64_t size_ = 0;
  bool complete_ = false, given_up_ = false, failed_ = false;
  std::optional<std::thread> thread_;
};

}  // namespace kestrum
