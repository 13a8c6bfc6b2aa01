// Reading the content of a file out of a set's tar, and checking it.
#pragma once

#include <functional>
#include <memory>
#include <optional>

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
  ContentReader(const Shelf& shelf, std::span<const Identity> identities, StopRequest stop = {})
      : shelf_(shelf), identities_(identities), stop_(std::move(stop)) {}

  // Reads the content of `size` bytes that lies at `location`, and compares its digest. Throws
  // Error(kDamage) naming the part if it is not there or not right. Sinks may have been given wrong
  // data by then. Throws Error(kStopped) soon after it is asked to, also in a file of any size.
  void read(const ContentLocation& location, std::uint64_t size, const Digest& digest,
            const ContentSink& sink);

 private:
  SetReader& reader_of(SetId set);

  const Shelf& shelf_;
  std::span<const Identity> identities_;
  StopRequest stop_;
  std::optional<SetId> open_set_;
  std::unique_ptr<SetReader> reader_;
  std::string folder_;
  Bytes buffer_;
};

// Gives out what of `data`, which lies at `offset` of a file with holes, is more than zeros: its
// content may be held by a copy without the holes.
void without_holes(std::uint64_t offset, ByteView data, const ContentSink& sink);

// The whole content in order, holes as zeros.
void read_content(ContentReader& reader, const ContentLocation& location, std::uint64_t size,
                  const Digest& digest, const std::function<void(ByteView)>& out);

}  // namespace kestrum
