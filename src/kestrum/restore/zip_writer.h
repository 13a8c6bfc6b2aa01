// A zip file, by libarchive, written from front to back: names in UTF-8, times to the second,
// modes.
#pragma once

#include <exception>
#include <string>

#include "kestrum/archive/entry.h"
#include "kestrum/base/bytes.h"
#include "kestrum/base/error.h"

struct archive;  // libarchive's

namespace kestrum {

class ZipWriter {
 public:
  // Writes to `out`, which outlives it; `name` is for messages. Throws Error.
  ZipWriter(ByteSink& out, std::string name);
  ~ZipWriter();
  ZipWriter(const ZipWriter&) = delete;

  // Begins a folder, a link, or a file, whose `size` bytes are written next. Names that are not
  // UTF-8 are escaped. Throws what `out` throws.
  void begin(const std::string& path, const Entry& entry);
  void write(ByteView bytes);
  void finish();

 private:
  friend long zip_out(::archive* archive, void* writer, const void* bytes, std::size_t size);
  // Throws what went wrong in `out`, or what libarchive has to say.
  void check(long result);

  ByteSink& out_;
  std::string name_;
  ::archive* archive_;
  std::exception_ptr failed_;  // in `out`
};

}  // namespace kestrum
