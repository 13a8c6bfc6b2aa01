#include "support/faulty_state.h"

#include <sqlite3.h>

#include <cerrno>
#include <cstring>

#include "kestrum/base/file.h"

namespace kestrum::test {
namespace {

FaultyState* current = nullptr;

}  // namespace

namespace sqlite_faults {
namespace {

// SQLite's own way to the disk, with the faults in between (sqlite.org/vfs.html).
struct VfsFile {
  sqlite3_file base;
  char* path;
  sqlite3_file* below;  // behind this struct
};

VfsFile* ours(sqlite3_file* file) {
  return reinterpret_cast<VfsFile*>(file);
}
sqlite3_file* below(sqlite3_file* file) {
  return ours(file)->below;
}
sqlite3_vfs* real_vfs = nullptr;

// The code to fail with, or 0.
int fault(const char* path, bool writes, int io_error) {
  int error_number = current == nullptr || path == nullptr ? 0 : current->call(path, writes);
  return error_number == 0 ? SQLITE_OK : error_number == ENOSPC ? SQLITE_FULL : io_error;
}

int close(sqlite3_file* file) {
  int result = below(file)->pMethods->xClose(below(file));
  ::free(ours(file)->path);
  return result;
}
int read(sqlite3_file* file, void* to, int bytes, sqlite3_int64 at) {
  if (int code = fault(ours(file)->path, false, SQLITE_IOERR_READ)) return code;
  return below(file)->pMethods->xRead(below(file), to, bytes, at);
}
int write(sqlite3_file* file, const void* from, int bytes, sqlite3_int64 at) {
  if (int code = fault(ours(file)->path, true, SQLITE_IOERR_WRITE)) return code;
  return below(file)->pMethods->xWrite(below(file), from, bytes, at);
}
int truncate(sqlite3_file* file, sqlite3_int64 size) {
  if (int code = fault(ours(file)->path, false, SQLITE_IOERR_TRUNCATE)) return code;
  return below(file)->pMethods->xTruncate(below(file), size);
}
int sync(sqlite3_file* file, int flags) {
  if (int code = fault(ours(file)->path, false, SQLITE_IOERR_FSYNC)) return code;
  return below(file)->pMethods->xSync(below(file), flags);
}
int file_size(sqlite3_file* file, sqlite3_int64* size) {
  return below(file)->pMethods->xFileSize(below(file), size);
}
int lock(sqlite3_file* file, int level) {
  return below(file)->pMethods->xLock(below(file), level);
}
int unlock(sqlite3_file* file, int level) {
  return below(file)->pMethods->xUnlock(below(file), level);
}
int check_lock(sqlite3_file* file, int* out) {
  return below(file)->pMethods->xCheckReservedLock(below(file), out);
}
int control(sqlite3_file* file, int op, void* arg) {
  return below(file)->pMethods->xFileControl(below(file), op, arg);
}
int sector_size(sqlite3_file* file) {
  return below(file)->pMethods->xSectorSize(below(file));
}
int characteristics(sqlite3_file* file) {
  return below(file)->pMethods->xDeviceCharacteristics(below(file));
}
int shm_map(sqlite3_file* file, int page, int size, int extend, void volatile** out) {
  if (extend != 0) {
    if (int code = fault(ours(file)->path, true, SQLITE_IOERR_SHMMAP)) return code;
  }
  return below(file)->pMethods->xShmMap(below(file), page, size, extend, out);
}
int shm_lock(sqlite3_file* file, int offset, int n, int flags) {
  return below(file)->pMethods->xShmLock(below(file), offset, n, flags);
}
void shm_barrier(sqlite3_file* file) {
  below(file)->pMethods->xShmBarrier(below(file));
}
int shm_unmap(sqlite3_file* file, int remove) {
  return below(file)->pMethods->xShmUnmap(below(file), remove);
}
constexpr sqlite3_io_methods kMethods = {
    2,         close,      read,    write,       truncate,        sync,    file_size, lock,
    unlock,    check_lock, control, sector_size, characteristics, shm_map, shm_lock,  shm_barrier,
    shm_unmap, nullptr,    nullptr};

int open(sqlite3_vfs*, const char* path, sqlite3_file* file, int flags, int* out_flags) {
  std::memset(file, 0, sizeof(VfsFile));
  if (int code = fault(path, (flags & SQLITE_OPEN_CREATE) != 0, SQLITE_CANTOPEN)) return code;
  ours(file)->below = reinterpret_cast<sqlite3_file*>(ours(file) + 1);
  int result = real_vfs->xOpen(real_vfs, path, below(file), flags, out_flags);
  if (below(file)->pMethods == nullptr) return result;
  ours(file)->path = path == nullptr ? nullptr : ::strdup(path);
  ours(file)->base.pMethods = &kMethods;
  return result;
}
int remove(sqlite3_vfs*, const char* path, int sync_folder) {
  if (int code = fault(path, false, SQLITE_IOERR_DELETE)) return code;
  return real_vfs->xDelete(real_vfs, path, sync_folder);
}

sqlite3_vfs* faulty_vfs() {
  static sqlite3_vfs vfs = [] {
    real_vfs = sqlite3_vfs_find(nullptr);
    sqlite3_vfs copy = *real_vfs;  // the rest of its calls know themselves by this
    copy.szOsFile = static_cast<int>(sizeof(VfsFile)) + real_vfs->szOsFile;
    copy.zName = "faulty";
    copy.pNext = nullptr;
    copy.xOpen = open;
    copy.xDelete = remove;
    return copy;
  }();
  return &vfs;
}

}  // namespace
}  // namespace sqlite_faults

FaultyState::FaultyState(std::string folder) : folder_(std::move(folder)) {
  current = this;
  sqlite3_vfs_register(sqlite_faults::faulty_vfs(), 1);
  set_file_fault([this](const std::string& path, bool writes) { return call(path, writes); });
}

FaultyState::~FaultyState() {
  set_file_fault({});
  sqlite3_vfs_unregister(sqlite_faults::faulty_vfs());
  current = nullptr;
}

void FaultyState::fail_at(int call, Fault fault) {
  calls_ = 0;
  left_ = call;
  fault_ = fault;
  failed_ = false;
}

void FaultyState::heal() {
  left_ = -1;
  failed_ = false;
}

int FaultyState::call(const std::string& path, bool writes) {
  if (!is_within(path, folder_)) return 0;
  bool counts = fault_ != Fault::kFull || writes;
  bool still = failed_ && fault_ != Fault::kOnce && counts;
  if (!still) {
    if (!counts) return 0;
    ++calls_;
    if (left_ < 0 || left_-- != 0) return 0;
    left_ = -1;
  }
  failed_ = true;
  return fault_ == Fault::kFull ? ENOSPC : EIO;
}

}  // namespace kestrum::test
