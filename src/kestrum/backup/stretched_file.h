// Stores of a large file what is not held already, stretch by stretch.
#pragma once

#include <string>
#include <vector>

#include "kestrum/archive/set_writer.h"
#include "kestrum/backup/content_feed.h"
#include "kestrum/backup/stretch_source.h"

namespace kestrum {

// A file with more runs of data than this is stored whole.
inline constexpr std::size_t kMostStretchedRuns = 10'000;

// Used by one thread. What is passed by reference outlives it.
class StretchedFiles {
 public:
  // `folder`: of the entries that are made, relative to "/".
  StretchedFiles(Index& index, SetWriter& writer, ContentFeed& feed, std::string folder)
      : index_(index), writer_(writer), feed_(feed), folder_(std::move(folder)) {}

  struct Stored {
    std::vector<ContentRange> ranges;
    Digest digest{};           // of the whole file
    std::uint64_t size = 0;    // that was read: less, if the file ended early
    std::uint64_t stored = 0;  // bytes of new content
    bool complete = true;
    int error = 0;  // errno, if it could not be read
  };
  // Reads a file that has data at `data`, kMostStretchedRuns at most, and is `e.size` long. Throws
  // Error(kStopped), and what the writer throws.
  Stored store(Fd& fd, const Entry& e, const std::vector<DataRun>& data, StretchSource& source);

 private:
  bool fill(Fd& fd, std::uint64_t& at, std::uint64_t end);
  void take(StretchSource& source);
  void put_new();

  Index& index_;
  SetWriter& writer_;
  ContentFeed& feed_;
  std::string folder_;
  std::uint64_t number_ = 0;      // of the next entry; 0: not asked for yet
  const Entry* entry_ = nullptr;  // of the file that is being stored
  Stored result_;
  Bytes ahead_;                      // content that was read and is not dealt with,
  std::size_t begin_ = 0, end_ = 0;  // from here to there
  Bytes pending_;                    // new content that has no entry yet,
  std::vector<Stretch> pending_stretches_;
};

}  // namespace kestrum
