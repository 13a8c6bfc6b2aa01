// Reading the content of a file out of a set's tar, and checking it.
#pragma once

#include <functional>
#include <list>
#include <map>
#include <memory>
#include <optional>
#include <string>
#include <utility>
#include <vector>

#include "kestrum/archive/set_reader.h"
#include "kestrum/base/observer.h"
#include "kestrum/machine/index.h"
#include "kestrum/shelf/shelf.h"

namespace kestrum {

// Receives content in order: data at an offset of the file. What is skipped is a hole.
using ContentSink = std::function<void(std::uint64_t offset, ByteView data)>;

// Used by one thread.
class ContentReader {
 public:
  // `spool` holds pieces of the sets' streams; it may be nothing, and outlives the reader.
  ContentReader(const Shelf& shelf, std::span<const Identity> identities, StopRequest stop = {},
                const StreamSpool* spool = nullptr)
      : shelf_(shelf), identities_(identities), stop_(std::move(stop)), spool_(spool) {}

  // Reads the content of `size` bytes that lies at `location`, and compares its digest. Throws
  // Error(kDamage) naming the part if it is not there or not right. Sinks may have been given wrong
  // data by then. Throws Error(kStopped) soon after it is asked to, also in a file of any size.
  void read(const ContentLocation& location, std::uint64_t size, const Digest& digest,
            const ContentSink& sink);
  // The pieces of content that lies in ranges, in whatever order takes the least reading. What
  // they add up to is not compared with anything: that is the caller's.
  void read_pieces(const ContentLocation& location, const ContentSink& sink);
  // Where the last reading was when it went wrong, as far as a set can be named.
  const std::optional<ContentRange>& failed_at() const { return at_; }

 private:
  struct OpenSet {
    SetId id;
    std::string folder;
    std::unique_ptr<SetReader> reader;
  };
  OpenSet& open_set(SetId set);
  struct Piece {
    std::uint64_t file_at = 0;
    ContentRange range;
  };
  static std::vector<Piece> pieces_of(const ContentLocation& location);
  // In words, where it lies.
  std::string read_whole(const ContentLocation& location, std::uint64_t size,
                         const ContentSink& sink);
  void read_piece(const Piece& piece, const ContentSink& sink);
  void read_bytes(OpenSet& set, std::uint64_t stream_at, std::uint64_t file_at,
                  std::uint64_t length, const ContentSink& sink);
  void check_stop() const;

  const Shelf& shelf_;
  std::span<const Identity> identities_;
  StopRequest stop_;
  const StreamSpool* spool_;
  // The last few that were read from: each holds a block, and may be gone on with behind it.
  std::list<OpenSet> open_;
  // Where the content of tar entries lies, of the file that is being read: first byte, length.
  std::map<std::pair<std::int64_t, std::uint64_t>, std::pair<std::uint64_t, std::uint64_t>> heads_;
  std::optional<ContentRange> at_;
  Bytes buffer_;
};

// Gives out what of `data`, which lies at `offset` of a file with holes, is more than zeros: its
// content may be held by a copy without the holes.
void without_holes(std::uint64_t offset, ByteView data, const ContentSink& sink);

// The whole content in order, holes as zeros.
void read_content(ContentReader& reader, const ContentLocation& location, std::uint64_t size,
                  const Digest& digest, const std::function<void(ByteView)>& out);

}  // namespace kestrum
