#include "kestrum/archive/stream_spool.h"

#include <fcntl.h>
#include <unistd.h>

#include <algorithm>
#include <cerrno>
#include <cstring>

#include "kestrum/base/below.h"
#include "kestrum/base/error.h"
#include "kestrum/base/followed.h"

namespace kestrum {
namespace {

Error spool_error(int code) {
  return Error(
      code == ENOSPC || code == EDQUOT ? ErrorKind::kNoRoom : ErrorKind::kFailed,
      std::string("what lies on several disks cannot be kept meanwhile: ") + std::strerror(code),
      "plug in all of its disks at once");
}

}  // namespace

void StreamSpool::open() {
  if (file_) return;
  int code = ENOENT;
  for (const std::string& name : folders_) {
    Fd folder = open_named(name, O_PATH | O_DIRECTORY);
    if (folder) file_ = below::unnamed_file(folder.get());
    if (file_) return;
    code = errno;
  }
  throw spool_error(code);
}

const StreamSpool::Piece* StreamSpool::piece_at(const Pieces& pieces, std::uint64_t offset,
                                                std::uint64_t& begin) const {
  auto next = pieces.upper_bound(offset);
  if (next == pieces.begin()) return nullptr;
  --next;
  begin = next->first;
  return offset < begin + next->second.length ? &next->second : nullptr;
}

void StreamSpool::keep(const std::string& stream, std::uint64_t offset, ByteView bytes) {
  std::lock_guard lock(mutex_);
  open();
  Pieces& pieces = streams_[stream];
  while (!bytes.empty()) {
    std::uint64_t begin = 0;
    if (const Piece* held = piece_at(pieces, offset, begin)) {
      std::uint64_t skip = std::min<std::uint64_t>(bytes.size(), begin + held->length - offset);
      bytes = bytes.subspan(skip);
      offset += skip;
      continue;
    }
    auto next = pieces.upper_bound(offset);
    std::uint64_t length = next == pieces.end()
                               ? bytes.size()
                               : std::min<std::uint64_t>(bytes.size(), next->first - offset);
    for (std::uint64_t done = 0; done < length;) {
      ssize_t n = ::pwrite(file_.get(), bytes.data() + done, length - done,
                           static_cast<off_t>(used_ + done));
      if (n < 0 && errno == EINTR) continue;
      if (n <= 0) throw spool_error(n == 0 ? ENOSPC : errno);
      done += static_cast<std::uint64_t>(n);
    }
    pieces[offset] = {length, used_};
    used_ += length;
    bytes = bytes.subspan(length);
    offset += length;
  }
}

std::uint64_t StreamSpool::holds(const std::string& stream, std::uint64_t offset,
                                 std::uint64_t most) const {
  std::lock_guard lock(mutex_);
  auto known = streams_.find(stream);
  if (known == streams_.end()) return 0;
  std::uint64_t at = offset, begin = 0;
  while (at - offset < most) {
    const Piece* piece = piece_at(known->second, at, begin);
    if (piece == nullptr) break;
    at = begin + piece->length;
  }
  return std::min(most, at - offset);
}

void StreamSpool::read(const std::string& stream, std::uint64_t offset,
                       std::span<std::uint8_t> out) const {
  std::lock_guard lock(mutex_);
  auto known = streams_.find(stream);
  while (!out.empty()) {
    std::uint64_t begin = 0;
    const Piece* piece = known == streams_.end() ? nullptr : piece_at(known->second, offset, begin);
    if (piece == nullptr) throw Error(ErrorKind::kFailed, stream + ": it was not read ahead");
    std::size_t n = std::min<std::uint64_t>(out.size(), begin + piece->length - offset);
    ssize_t got =
        ::pread(file_.get(), out.data(), n, static_cast<off_t>(piece->at + (offset - begin)));
    if (got < 0 && errno == EINTR) continue;
    if (got <= 0) throw spool_error(got == 0 ? EIO : errno);
    out = out.subspan(static_cast<std::size_t>(got));
    offset += static_cast<std::uint64_t>(got);
  }
}

bool StreamSpool::empty() const {
  std::lock_guard lock(mutex_);
  return used_ == 0;
}

}  // namespace kestrum
