#include "kestrum/backup/source_snapshots.h"

#include <btrfsutil.h>
#include <fcntl.h>
#include <linux/magic.h>
#include <sys/vfs.h>
#include <unistd.h>

#include <utility>

#include "kestrum/base/below.h"
#include "kestrum/base/error.h"
#include "kestrum/base/followed.h"
#include "kestrum/base/uuid.h"
#include "kestrum/machine/job_lock.h"
#include "kestrum/place/mounts.h"

namespace kestrum {
namespace {

std::string why_not(btrfs_util_error error, int number) {
  return std::string(::btrfs_util_strerror(error)) + ": " + errno_text(number);
}

bool is_on_btrfs(int fd) {
  struct statfs fs {};
  return ::fstatfs(fd, &fs) == 0 && static_cast<long>(fs.f_type) == BTRFS_SUPER_MAGIC;
}

// Why it could not be removed: nothing if it is there no more, empty if its disk is not. Only what
// is a read-only subvolume of our name is removed, and by its number: whoever may write to the
// folder cannot put another one in its place.
std::optional<std::string> remove_snapshot(const SnapshotRecord& record) {
  if (!record.name.starts_with(kSnapshotPrefix) || record.name.find('/') != std::string::npos) {
    return "no name of a snapshot";
  }
  struct stat st {};
  Fd top = open_named(record.top, O_RDONLY | O_DIRECTORY);
  if (!top) return errno == ENOENT ? "" : errno_text(errno);
  if (!below::look(top.get(), record.name, st)) {
    return errno == ENOENT ? std::nullopt : std::optional(errno_text(errno));
  }
  Fd snapshot = below::open_folder(top.get(), record.name);
  if (!snapshot) return errno_text(errno);
  bool read_only = false;
  std::uint64_t id = 0;
  auto step = [](btrfs_util_error error) { return error == BTRFS_UTIL_OK; };
  bool ours = is_snapshot_folder(record.name, st) &&
              step(::btrfs_util_get_subvolume_read_only_fd(snapshot.get(), &read_only)) &&
              read_only && step(::btrfs_util_subvolume_id_fd(snapshot.get(), &id));
  if (!ours) return "it is no snapshot";
  snapshot = Fd();
  btrfs_util_error error = ::btrfs_util_delete_subvolume_by_id_fd(top.get(), id);
  if (error != BTRFS_UTIL_OK) return why_not(error, errno);
  return std::nullopt;
}

// Of one whose disk is not there nothing is said; its record stays.
void remove_recorded(const SnapshotRecords& records, const SnapshotRecord& record,
                     RunMessages& messages) {
  auto why = remove_snapshot(record);
  if (!why) return records.drop(record.id);
  if (why->empty()) return;
  messages.warn(record.top + "/" + record.name,
                "this snapshot could not be removed, the next run tries it again: " + *why);
}

}  // namespace

void remove_left_over_snapshots(const MachineState& machine, const std::string& job,
                                RunMessages& messages) {
  SnapshotRecords records(machine);
  for (const SnapshotRecord& record : records.all()) {
    if (record.job != job && JobLock::holder(machine, record.job)) continue;
    remove_recorded(records, record, messages);
  }
}

SourceSnapshots::SourceSnapshots(const MachineState& machine, const Job& job,
                                 const std::vector<std::string>& roots, RunMessages& messages)
    : records_(machine), job_(job), messages_(messages) {
  if (job.snapshot == SnapshotUse::kOff) return;
  try {
    for (const std::string& root : roots) {
      auto why = take(root);
      if (why && job.snapshot == SnapshotUse::kRequire) {
        throw Error(ErrorKind::kFailed,
                    "no snapshot of " + root + " can be made (" + *why + "), and the job wants one",
                    "kestrum job set " + job.name + " source.snapshot auto")
            .about_job(job.name);
      }
      if (why) tell_once(root, *why);
    }
    // Behind the last snapshot: what was mounted before is in none.
    if (!view_.empty()) view_.set_mount_points(mount_points());
  } catch (...) {
    remove();
    throw;
  }
}

SourceSnapshots::~SourceSnapshots() {
  remove();
}

void SourceSnapshots::tell_once(const std::string& root, const std::string& why) {
  if (why.empty() || records_.was_told(job_.name)) return;
  messages_.note("files are copied as they are, not from a snapshot: " + root + ": " + why);
  records_.note_told(job_.name, why);
}

std::optional<std::string> SourceSnapshots::take(const std::string& root) {
  Followed at = follow(AT_FDCWD, root);
  struct stat named {
  }, st{};
  if (!at || !below::look(at.parent.get(), at.name, named)) return std::nullopt;
  bool wanted = job_.snapshot == SnapshotUse::kRequire;
  Fd top = S_ISDIR(named.st_mode) ? below::open_folder(at.parent.get(), at.name)
                                  : below::open_folder(at.parent.get(), "");
  if (!top || ::fstat(top.get(), &st) != 0) return errno_text(errno);
  if (!is_on_btrfs(top.get())) {
    return wanted ? "it is not on btrfs, which makes them" : "";
  }
  if (view_.find(at.parent.get(), at.name, named)) return std::nullopt;
  if (::geteuid() != 0) return "only root can make and remove them";
  std::string live = SnapshotView::path_of(top.get());
  while (!live.empty() && st.st_ino != kSubvolumeTop) {
    dev_t device = st.st_dev;
    live = parent_of(live);
    top = open_named(live, O_RDONLY | O_DIRECTORY);
    if (!top || ::fstat(top.get(), &st) != 0) return errno_text(errno);
    if (st.st_dev != device) return "only a part of its subvolume is mounted here";
  }
  if (live.empty()) return "where it lies cannot be told";
  if (auto why = make(std::move(top), live, st)) return why;
  bool covered = view_.find(at.parent.get(), at.name, named).snapshot != nullptr;
  return covered ? std::nullopt : std::optional<std::string>("it changed just now");
}

std::optional<std::string> SourceSnapshots::make(Fd top, std::string live, const struct stat& st) {
  if (const TreeSnapshot* same = view_.of_device(st.st_dev)) {  // mounted at another place too
    view_.add({std::move(live), same->live_device, same->device, same->top});
    return std::nullopt;
  }
  std::string id = make_uuid();
  made_.push_back({id, job_.name, live, kSnapshotPrefix + id});
  const SnapshotRecord& record = made_.back();
  records_.put(record);  // before: a run that is killed leaves nothing unknown
  btrfs_util_error error =
      ::btrfs_util_create_snapshot_fd2(top.get(), top.get(), record.name.c_str(),
                                       BTRFS_UTIL_CREATE_SNAPSHOT_READ_ONLY, nullptr, nullptr);
  if (error != BTRFS_UTIL_OK) return why_not(error, errno);
  struct stat made {};
  auto opened = std::make_shared<const Fd>(below::open_folder(top.get(), record.name));
  if (!*opened || ::fstat(opened->get(), &made) != 0) return errno_text(errno);
  messages_.mention("copied from a snapshot of " + live);
  view_.add({std::move(live), st.st_dev, made.st_dev, std::move(opened)});
  return std::nullopt;
}

void SourceSnapshots::remove() {
  view_ = SnapshotView();
  for (const SnapshotRecord& record : std::exchange(made_, {})) {
    remove_recorded(records_, record, messages_);
  }
}

}  // namespace kestrum
