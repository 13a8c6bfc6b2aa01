// Pieces of tar streams that were read ahead and are kept until they are needed: of content that
// lies on several disks of which one is plugged in at a time.
#pragma once

#include <cstdint>
#include <map>
#include <mutex>
#include <span>
#include <string>
#include <vector>

#include "kestrum/base/bytes.h"
#include "kestrum/base/file.h"

namespace kestrum {

// Used by any thread. What it holds lies in a file without a name, and is gone with the process.
class StreamSpool {
 public:
  // The file is made in the first of these folders where one can be, once something is kept.
  explicit StreamSpool(std::vector<std::string> folders) : folders_(std::move(folders)) {}

  // `stream` names the stream. What is held already is not kept twice. Throws Error(kNoRoom).
  void keep(const std::string& stream, std::uint64_t offset, ByteView bytes);
  // How many bytes from `offset` on it holds; at most `most`.
  std::uint64_t holds(const std::string& stream, std::uint64_t offset, std::uint64_t most) const;
  // Bytes that it holds.
  void read(const std::string& stream, std::uint64_t offset, std::span<std::uint8_t> out) const;
  bool empty() const;

 private:
  struct Piece {
    std::uint64_t length = 0, at = 0;  // in the file
  };
  using Pieces = std::map<std::uint64_t, Piece>;  // by offset; they do not overlap
  const Piece* piece_at(const Pieces& pieces, std::uint64_t offset, std::uint64_t& begin) const;
  void open();

  std::vector<std::string> folders_;
  mutable std::mutex mutex_;
  Fd file_;
  std::uint64_t used_ = 0;
  std::map<std::string, Pieces> streams_;
};

}  // namespace kestrum
