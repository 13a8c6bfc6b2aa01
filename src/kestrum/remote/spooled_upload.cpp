#include "kestrum/remote/spooled_upload.h"

#include <fcntl.h>
#include <unistd.h>

#include <algorithm>
#include <cerrno>

#include "kestrum/base/below.h"
#include "kestrum/base/error.h"
#include "kestrum/base/followed.h"
#include "kestrum/base/uuid.h"
#include "kestrum/remote/retry.h"

namespace kestrum {
namespace {

Error cannot_be_kept(int error_number, const std::string& name) {
  return Error(ErrorKind::kFailed,
               name + ": cannot be kept on this PC until it is sent: " + errno_text(error_number),
               "make room on this PC's own disk, or a smaller part_size under [destination]")
      .about_path(name);
}

}  // namespace

SpooledUpload::SpooledUpload(std::shared_ptr<Store> store, std::string path, std::string name,
                             const std::string& folder)
    : store_(std::move(store)), path_(std::move(path)), name_(std::move(name)) {
  file_ = open_named(folder, O_TMPFILE | O_RDWR);
  if (!file_ && (errno == EOPNOTSUPP || errno == EISDIR)) {  // as on some filesystems
    Fd in = open_named(folder, O_PATH | O_DIRECTORY);
    std::string waiting = ".to-be-sent-" + make_uuid();
    file_ = in ? below::create(in.get(), waiting, O_RDWR) : Fd();
    if (file_) below::remove(in.get(), waiting);
  }
  if (!file_) throw cannot_be_kept(errno, name_);
}

void SpooledUpload::write(ByteView bytes) {
  while (!bytes.empty()) {
    ssize_t n = ::pwrite(file_.get(), bytes.data(), bytes.size(), static_cast<off_t>(size_));
    if (n < 0 && errno == EINTR) continue;
    if (n <= 0) throw cannot_be_kept(n < 0 ? errno : ENOSPC, name_);
    size_ += static_cast<std::uint64_t>(n);
    bytes = bytes.subspan(static_cast<std::size_t>(n));
  }
}

void SpooledUpload::sync() {
  Retry::insist([&] {
    std::uint64_t at = 0;
    auto fill = [&](std::span<std::uint8_t> out) -> std::optional<std::size_t> {
      std::size_t some = std::min<std::uint64_t>(out.size(), size_ - at);
      ssize_t n = some == 0 ? 0 : ::pread(file_.get(), out.data(), some, static_cast<off_t>(at));
      if (n < 0 || (n == 0 && some > 0)) return std::nullopt;
      at += static_cast<std::uint64_t>(n);
      return static_cast<std::size_t>(n);
    };
    store_->write(path_, 0, {fill, size_, [&] { at = 0; }});
  });
}

}  // namespace kestrum
