// What a person named by a path: a folder of a job, a target of a restore, a place of shelves.
// Links there and above are followed only where nobody can lead astray who has fewer rights than
// this process: a link that root owns in a folder that root owns, one that belongs to the owner of
// what is opened in the end, and for anybody but root one of his own. Others fail with
// kForeignLink. Below what was named no link is followed (base/below.h).
#pragma once

#include <sys/stat.h>

#include <string>
#include <vector>

#include "kestrum/base/file.h"

namespace kestrum {

// Where a path leads: `name` in an open folder ("" is the folder itself), which was no link.
struct Followed {
  Fd parent;
  std::string name;
  // To whom links on the way belong: what is opened must be theirs.
  std::vector<uid_t> owners;

  explicit operator bool() const { return static_cast<bool>(parent); }
  // Whether that may be opened; sets errno to kForeignLink if not.
  bool allows(const struct stat& st) const;
};

// Whether what `owners` of links lead to is theirs; sets errno to kForeignLink if not.
bool owners_allow(const std::vector<uid_t>& owners, const struct stat& st);

// `path` is absolute, or relative to an open folder; its last name need not be there. Nothing, and
// errno, if it cannot be followed so far.
Followed follow(int folder, const std::string& path);

// All of these take absolute paths, and set errno on failure.
// With `flags` as of open(2); nothing if it may not be opened.
Fd open_named(const std::string& path, int flags);
[[nodiscard]] bool look_named(const std::string& path, struct stat& st);
bool is_named_folder(const std::string& path);
// Whether the last name is there, be it a link that leads nowhere; what cannot be looked at counts
// as there.
bool is_named(const std::string& path);
// Whether a folder is there, and on another filesystem than the one above it.
bool is_mounted_on(const std::string& path);

}  // namespace kestrum
