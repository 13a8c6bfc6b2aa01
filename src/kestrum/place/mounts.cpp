#include "kestrum/place/mounts.h"

#include <libmount.h>

#include <cstdio>
#include <functional>
#include <memory>
#include <string>

#include "kestrum/base/error.h"
#include "kestrum/base/file.h"

namespace kestrum {
namespace {

bool is_systems_own(const std::string& folder) {
  for (const char* own :
       {"/boot", "/snap", "/var/lib", "/run/user", "/proc", "/sys", "/dev", "/etc", "/usr"}) {
    if (is_within(folder, own)) return true;
  }
  return folder == "/";
}

struct FreeTable {
  void operator()(libmnt_table* table) const { ::mnt_unref_table(table); }
};
struct FreeIterator {
  void operator()(libmnt_iter* iterator) const { ::mnt_free_iter(iterator); }
};

std::string text_or_empty(const char* text) {
  return text == nullptr ? "" : text;
}

bool is_share(libmnt_fs* fs) {
  std::string source = text_or_empty(::mnt_fs_get_srcpath(fs));
  return ::mnt_fs_is_netfs(fs) == 1 || source.find(":/") != std::string::npos ||
         source.starts_with("//");
}

// Calls `visit` for each line.
void each_mount(std::string_view mountinfo, const std::function<void(libmnt_fs*)>& visit) {
  std::string text(mountinfo);
  if (text.empty()) return;
  std::unique_ptr<libmnt_table, FreeTable> table(::mnt_new_table());
  std::unique_ptr<libmnt_iter, FreeIterator> iterator(::mnt_new_iter(MNT_ITER_FORWARD));
  std::unique_ptr<std::FILE, int (*)(std::FILE*)> stream(::fmemopen(text.data(), text.size(), "r"),
                                                         std::fclose);
  // Lines that are none are passed over.
  ::mnt_table_set_parser_errcb(table.get(), [](libmnt_table*, const char*, int) { return 1; });
  if (!stream || ::mnt_table_parse_stream(table.get(), stream.get(), "mountinfo") != 0) {
    return;
  }
  libmnt_fs* fs = nullptr;
  while (::mnt_table_next_fs(table.get(), iterator.get(), &fs) == 0) visit(fs);
}

}  // namespace

std::vector<MountedDisk> disks_in(std::string_view mountinfo) {
  std::vector<MountedDisk> disks;
  each_mount(mountinfo, [&](libmnt_fs* fs) {
    std::string folder = text_or_empty(::mnt_fs_get_target(fs));
    std::string source = text_or_empty(::mnt_fs_get_srcpath(fs));
    std::string type = text_or_empty(::mnt_fs_get_fstype(fs));
    bool at_its_root = text_or_empty(::mnt_fs_get_root(fs)) == "/";
    bool device = source.starts_with("/dev/");
    bool share = is_share(fs);
    std::string options = "," + text_or_empty(::mnt_fs_get_vfs_options(fs)) + ",";
    bool read_only = options.find(",ro,") != std::string::npos;
    if ((!device && !share) || read_only || !at_its_root || type == "squashfs" ||
        is_systems_own(folder)) {
      return;
    }
    disks.push_back({folder, type, share});
  });
  return disks;
}

std::vector<MountedDisk> mounted_disks() {
  try {
    return disks_in(read_file("/proc/self/mountinfo"));
  } catch (const Error&) {
    return {};
  }
}

std::vector<std::string> where_on(const MountedDisk& disk, const std::string& place) {
  std::vector<std::string> folders;
  std::string tail;
  for (std::string rest = place;; rest = parent_of(rest)) {
    folders.push_back(path_below(disk.folder, tail));
    if (rest.size() <= 1) return folders;
    tail = tail.empty() ? base_name(rest) : base_name(rest) + "/" + tail;
  }
}

bool is_on_share(const std::string& path) {
  std::string nearest;
  bool share = false;
  try {
    each_mount(read_file("/proc/self/mountinfo"), [&](libmnt_fs* fs) {
      std::string folder = text_or_empty(::mnt_fs_get_target(fs));
      // Of what is mounted at one folder the last is seen.
      if (!is_within(path, folder) || folder.size() < nearest.size()) return;
      nearest = folder;
      share = is_share(fs);
    });
  } catch (const Error&) {
    return false;
  }
  return share;
}

std::vector<std::string> mount_points() {
  std::vector<std::string> points;
  each_mount(read_file("/proc/self/mountinfo"),
             [&](libmnt_fs* fs) { points.push_back(text_or_empty(::mnt_fs_get_target(fs))); });
  return points;
}

}  // namespace kestrum
