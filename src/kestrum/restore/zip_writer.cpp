#include "kestrum/restore/zip_writer.h"

#include <archive.h>
#include <archive_entry.h>
#include <sys/stat.h>

#include <clocale>
#include <memory>
#include <utility>

#include "kestrum/base/text.h"

namespace kestrum {
namespace {

// libarchive takes names to be in the encoding of the thread's locale.
class Utf8Locale {
 public:
  Utf8Locale() : made_(::newlocale(LC_CTYPE_MASK, "C.UTF-8", nullptr)) {
    if (made_ != nullptr) before_ = ::uselocale(made_);
  }
  ~Utf8Locale() {
    if (made_ == nullptr) return;
    ::uselocale(before_);
    ::freelocale(made_);
  }
  Utf8Locale(const Utf8Locale&) = delete;

 private:
  locale_t made_, before_ = nullptr;
};

std::string zip_name(const std::string& path) {
  return is_utf8(path) ? path : printable(path);
}

}  // namespace

long zip_out(::archive*, void* writer, const void* bytes, std::size_t size) {
  auto* zip = static_cast<ZipWriter*>(writer);
  try {
    zip->out_.write({static_cast<const std::uint8_t*>(bytes), size});
    return static_cast<long>(size);
  } catch (...) {
    zip->failed_ = std::current_exception();  // not through C
    return -1;
  }
}

ZipWriter::ZipWriter(ByteSink& out, std::string name)
    : out_(out), name_(std::move(name)), archive_(::archive_write_new()) {
  Utf8Locale utf8;
  if (archive_ == nullptr) throw Error(ErrorKind::kFailed, name_ + ": cannot be made");
  try {
    check(::archive_write_set_format_zip(archive_));
    check(::archive_write_set_bytes_in_last_block(archive_, 1));
    check(::archive_write_open(archive_, this, nullptr, zip_out, nullptr));
  } catch (...) {
    ::archive_write_free(archive_);
    throw;
  }
}

ZipWriter::~ZipWriter() {
  // Without finish() the rest is of no use; where it goes is gone with whoever made `out`.
  ::archive_write_fail(archive_);
  ::archive_write_free(archive_);
}

void ZipWriter::check(long result) {
  if (failed_) std::rethrow_exception(std::exchange(failed_, nullptr));
  if (result >= ARCHIVE_WARN) return;
  const char* why = ::archive_error_string(archive_);
  throw Error(ErrorKind::kFailed, name_ + ": " + (why == nullptr ? "cannot be written" : why));
}

void ZipWriter::begin(const std::string& path, const Entry& entry) {
  Utf8Locale utf8;
  std::unique_ptr<archive_entry, void (*)(archive_entry*)> head(::archive_entry_new2(archive_),
                                                                ::archive_entry_free);
  bool folder = entry.type == EntryType::kFolder, link = entry.type == EntryType::kLink;
  bool file = !folder && !link;
  ::archive_entry_set_pathname(head.get(), zip_name(path).c_str());
  ::archive_entry_set_filetype(head.get(), folder ? AE_IFDIR : link ? AE_IFLNK : AE_IFREG);
  ::archive_entry_set_perm(head.get(), static_cast<mode_t>(entry.mode));
  ::archive_entry_set_mtime(head.get(), static_cast<time_t>(entry.mtime.seconds), 0);
  ::archive_entry_set_size(head.get(), file ? static_cast<std::int64_t>(entry.size) : 0);
  if (link) ::archive_entry_set_symlink(head.get(), zip_name(entry.target).c_str());
  check(::archive_write_header(archive_, head.get()));
}

void ZipWriter::write(ByteView bytes) {
  while (!bytes.empty()) {
    la_ssize_t n = ::archive_write_data(archive_, bytes.data(), bytes.size());
    check(n);
    if (n == 0) throw Error(ErrorKind::kFailed, name_ + ": more content than its entry has");
    bytes = bytes.subspan(static_cast<std::size_t>(n));
  }
}

void ZipWriter::finish() {
  Utf8Locale utf8;
  check(::archive_write_close(archive_));
}

}  // namespace kestrum
