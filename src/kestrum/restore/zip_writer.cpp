#include "kestrum/restore/zip_writer.h"

#include <fcntl.h>
#include <sys/stat.h>
#include <unistd.h>
#include <zip.h>

#include <array>

#include "kestrum/base/error.h"
#include "kestrum/base/text.h"

namespace kestrum {
namespace {

constexpr zip_uint16_t kExtendedTimestamp = 0x5455;  // "UT" of the Info-ZIP extra fields

}  // namespace

ZipWriter::ZipWriter(const std::string& file) : file_(file), content_path_(file + ".content") {
  content_.reset(::open(content_path_.c_str(), O_WRONLY | O_CREAT | O_EXCL | O_CLOEXEC, 0600));
  if (!content_) throw system_error(errno, content_path_);
  int code = 0;
  archive_ = ::zip_open(file.c_str(), ZIP_CREATE | ZIP_EXCL, &code);
  if (archive_ == nullptr) {
    ::unlink(content_path_.c_str());
    throw Error(ErrorKind::kFailed, file + ": cannot be made");
  }
}

ZipWriter::~ZipWriter() {
  if (archive_ != nullptr) ::zip_discard(archive_);
  ::unlink(content_path_.c_str());
}

Error ZipWriter::failed(const std::string& what) const {
  int code = ::zip_error_system_type(::zip_get_error(archive_)) == ZIP_ET_SYS
                 ? ::zip_error_code_system(::zip_get_error(archive_))
                 : 0;
  if (code != 0) return system_error(code, what);
  return Error(ErrorKind::kFailed, what + ": " + ::zip_strerror(archive_));
}

void ZipWriter::write(ByteView bytes) {
  write_all(content_.get(), bytes, content_path_);
  end_ += bytes.size();
}

void ZipWriter::add(const std::string& path, const Entry& entry) {
  bool folder = entry.type == EntryType::kFolder, link = entry.type == EntryType::kLink;
  std::string name = is_utf8(path) ? path : printable(path);
  zip_int64_t index = 0;
  if (folder) {
    index = ::zip_dir_add(archive_, name.c_str(), ZIP_FL_ENC_UTF_8);
  } else {
    if (link) write(as_bytes(entry.target));
    zip_source_t* source = begin_ == end_
                               ? ::zip_source_buffer(archive_, nullptr, 0, 0)
                               : ::zip_source_file(archive_, content_path_.c_str(), begin_,
                                                   static_cast<zip_int64_t>(end_ - begin_));
    if (source == nullptr) throw failed(path);
    index = ::zip_file_add(archive_, name.c_str(), source, ZIP_FL_ENC_UTF_8);
    if (index < 0) ::zip_source_free(source);
  }
  begin_ = end_;
  if (index < 0) throw failed(path);
  auto slot = static_cast<zip_uint64_t>(index);
  auto seconds = static_cast<time_t>(entry.mtime.seconds);
  ::zip_file_set_mtime(archive_, slot, seconds, 0);
  // The plain time has two-second steps and no zone: the exact one goes beside it.
  std::array<std::uint8_t, 5> stamp = {1};
  put_le32(stamp.data() + 1, static_cast<std::uint32_t>(seconds));
  for (zip_flags_t where : {ZIP_FL_LOCAL, ZIP_FL_CENTRAL}) {
    ::zip_file_extra_field_set(archive_, slot, kExtendedTimestamp, ZIP_EXTRA_FIELD_NEW,
                               stamp.data(), stamp.size(), where);
  }
  zip_uint32_t mode = entry.mode | (folder ? S_IFDIR : link ? S_IFLNK : S_IFREG);
  ::zip_file_set_external_attributes(archive_, slot, 0, ZIP_OPSYS_UNIX, mode << 16);
}

void ZipWriter::finish() {
  if (::zip_close(archive_) != 0) throw failed(file_);
  archive_ = nullptr;
}

}  // namespace kestrum
