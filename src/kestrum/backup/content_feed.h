// Reads files of the PC that may change meanwhile, into a digest and into the set.
#pragma once

#include <span>
#include <string>
#include <vector>

#include "kestrum/archive/entry.h"
#include "kestrum/archive/set_writer.h"
#include "kestrum/backup/listed_content.h"
#include "kestrum/backup/run_messages.h"
#include "kestrum/base/data_runs.h"
#include "kestrum/base/file.h"
#include "kestrum/base/observer.h"
#include "kestrum/crypto/digest.h"
#include "kestrum/plan/lacking.h"
#include "kestrum/shelf/seal.h"

namespace kestrum {

// Counted by whoever stores; files that are seen are counted by its caller.
struct StoreCounts {
  FileCounts files;
  ByteCounts bytes;    // seen, copied
  UnreadPaths unread;  // what could not be read now
};

// A file up to this size (bytes) is read into memory, digested first, and then stored or referred
// to. A larger one is read once, unless content of its size is known: then it is digested first as
// well, and read a second time if it turns out to be new.
inline constexpr std::uint64_t kReadAtOnceUpTo = 8 << 20;
static_assert(kReadAtOnceUpTo >= kNotedAbove);

// Used by one thread. What is passed by reference outlives it.
class ContentFeed {
 public:
  ContentFeed(SetWriter& writer, RunMessages& messages, const StoreCounts& counts,
              StopRequest stop);

  struct Reading {
    const Entry& entry;
    const std::vector<DataRun>& data;
    std::uint64_t from = 0;         // offset in the file
    bool store = false;             // or digest only
    ListedContent* list = nullptr;  // is shown the content
  };
  struct Read {
    bool complete = true;  // false: the file ended early, or could not be read
    int error = 0;         // errno, if it could not be read
  };
  // Reads content in order, holes as zeros. What is missing of what the entry's header promised is
  // stored as zeros. Throws Error(kStopped).
  Read read(Fd& fd, const Reading& reading, Digester& digester);

  // For whoever reads by himself: kReadAtOnceUpTo + 1 bytes.
  std::span<std::uint8_t> buffer() {
    if (buffer_.empty()) buffer_.resize(kReadAtOnceUpTo + 1);  // many runs read no file at all
    return buffer_;
  }
  // Progress; the path is relative to "/", and so many bytes of it are still to be read.
  void report(const std::string& path, std::uint64_t left = 0);
  void set_phase(const std::string& phase) { progress_.phase = phase; }
  void check_stop() const;

 private:
  SetWriter& writer_;
  RunMessages& messages_;
  const StoreCounts& counts_;
  StopRequest stop_;
  Bytes buffer_;
  Progress progress_;
};

}  // namespace kestrum
