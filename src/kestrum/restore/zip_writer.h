// A zip file, by libzip: names in UTF-8, times to the second, modes.
#pragma once

#include <string>

#include "kestrum/archive/entry.h"
#include "kestrum/base/bytes.h"
#include "kestrum/base/error.h"
#include "kestrum/base/file.h"

struct zip;  // libzip's

namespace kestrum {

class ZipWriter {
 public:
  // `file` is made anew. Content waits beside it, in `file`.content, until finish(). Throws Error.
  explicit ZipWriter(const std::string& file);
  ~ZipWriter();  // without finish(): nothing is left
  ZipWriter(const ZipWriter&) = delete;

  // Content of the entry that add() is called for next.
  void write(ByteView bytes);
  // A file with the content written since the last call, a folder, or a link.
  void add(const std::string& path, const Entry& entry);
  void finish();

 private:
  Error failed(const std::string& what) const;

  std::string file_, content_path_;
  Fd content_;
  std::uint64_t begin_ = 0, end_ = 0;  // of the content of the next entry
  ::zip* archive_ = nullptr;
};

}  // namespace kestrum
