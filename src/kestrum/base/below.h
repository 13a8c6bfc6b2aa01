// What lies below a folder that is held open. Whatever is looked at, made, renamed or removed in a
// folder that others may change at the same time (a source, a target, a shelf) goes through here:
// every name is looked up in an open folder, and no link is followed, neither at the end nor on the
// way. Where the kernel has openat2(2) it resolves a path in one call (RESOLVE_BENEATH,
// RESOLVE_NO_SYMLINKS); elsewhere, and where a sandbox refuses it, one name is opened after the
// other.
//
// `path` is names with '/' between, none of them empty, "." or "..", or "" for the folder itself;
// anything else fails with EXDEV. Functions say false or nothing on failure, with errno set: ELOOP
// at a link, ENOTDIR at anything else on the way that is no folder.
#pragma once

#include <sys/stat.h>

#include <string>
#include <string_view>
#include <vector>

#include "kestrum/base/file.h"

namespace kestrum::below {

// As openat(2) with O_NOFOLLOW and O_CLOEXEC.
Fd open(int folder, const std::string& path, int flags, mode_t mode = 0);
// A regular file, without ever waiting for one; kNotRegular if it is something else, which is not
// opened.
Fd open_regular(int folder, const std::string& path, int flags);
// A new file for writing and with `flags`. EEXIST if anything has its name.
Fd create(int folder, const std::string& path, int flags = 0, mode_t mode = 0600);
// A file without a name, to read and write, that is gone once it is closed, unless it is given a
// name before. EOPNOTSUPP where a filesystem has none.
Fd unnamed_file(int folder, mode_t mode = 0600);
// EEXIST if anything has the name; whatever else fails may do with files that have one.
[[nodiscard]] bool give_name(int unnamed, int folder, const std::string& path);
// A folder, for listing; "" opens it anew.
Fd open_folder(int folder, const std::string& path);
// A folder, only to go on from: nobody needs the right to list it.
Fd open_passage(int folder, const std::string& path);

[[nodiscard]] bool look(int folder, const std::string& path, struct stat& st);
// Whether anything has this name; what cannot be looked at counts as there.
[[nodiscard]] bool exists(int folder, const std::string& path);
[[nodiscard]] bool read_link(int folder, const std::string& path, std::string& target);

// 0700. EEXIST if anything has its name.
[[nodiscard]] bool make_folder(int folder, const std::string& path);
[[nodiscard]] bool make_link(int folder, const std::string& path, const std::string& target);
[[nodiscard]] bool make_node(int folder, const std::string& path, mode_t mode, dev_t device);
[[nodiscard]] bool make_hardlink(int from_folder, const std::string& from, int folder,
                                 const std::string& path);
// `flags` as of renameat2(2).
[[nodiscard]] bool rename(int from_folder, const std::string& from, int folder,
                          const std::string& path, unsigned flags = 0);
// Anything but a folder.
bool remove(int folder, const std::string& path);
// An empty folder.
bool remove_folder(int folder, const std::string& path);
// A folder and all that is in it, on its own filesystem: at what is mounted in it, it fails with
// EXDEV, and with ELOOP if it is more than 1,000 folders deep.
[[nodiscard]] bool remove_tree(int folder, const std::string& path);

// The names in an open folder, in byte order, each once, without "." and "..". What could be read
// before an error is in `names`.
[[nodiscard]] bool list(int folder, std::vector<std::string>& names);

// Whether this user may make something in an open folder, as far as that can be told beforehand.
[[nodiscard]] bool may_make_in(int folder);

// Of what is open, also by O_PATH (a link, a FIFO, a device): the thing itself, whatever has its
// name by now.
bool set_owner(int fd, uid_t user, gid_t group);
bool set_mode(int fd, mode_t mode);
bool set_times(int fd, const timespec times[2]);
bool set_attribute(int fd, const std::string& name, std::string_view value);
// A path that names `name` in an open folder to calls that take paths alone, and do not follow
// links.
std::string path_for_calls(int folder, const std::string& name);

// For tests: false does without openat2, and without files that have no name.
void use_openat2(bool use);
void use_unnamed_files(bool use);

}  // namespace kestrum::below
