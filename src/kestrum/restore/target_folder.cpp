#include "kestrum/restore/target_folder.h"

#include <fcntl.h>
#include <fmt/format.h>
#include <grp.h>
#include <pwd.h>
#include <sys/sysmacros.h>
#include <sys/vfs.h>
#include <unistd.h>

#include <algorithm>
#include <cctype>
#include <cerrno>

#include "kestrum/base/below.h"
#include "kestrum/base/error.h"
#include "kestrum/base/followed.h"
#include "kestrum/base/text.h"
#include "kestrum/crypto/digest.h"

namespace kestrum {
namespace {

constexpr long kFuse = 0x65735546;     // FUSE_SUPER_MAGIC, of no public header
constexpr std::size_t kMostOpen = 64;  // folders in each other
constexpr uid_t kNobody = 65534;

// The same for the same name, so that what a killed restore left is found by the next.
std::string temporary_name(const std::string& name) {
  return ".restoring-" + to_hex(digest_of(as_bytes(name))).substr(0, 16);
}

void drop(int parent, const std::string& name) {
  if (!below::remove(parent, name)) below::remove_folder(parent, name);
}

// Another descriptor of it, which stays open while the tree goes on to other folders.
Fd held(int folder) {
  return Fd(::fcntl(folder, F_DUPFD_CLOEXEC, 0));
}

Error in_the_way(int error_number, const std::string& path) {
  if (error_number == ELOOP || error_number == ENOTDIR) {
    return Error(ErrorKind::kFailed, path + ": a link or a file is in the way of a folder");
  }
  return system_error(error_number, path);
}

Error cannot_be_made(int error_number, const std::string& folder) {
  return system_error(error_number, folder).about_path(folder);
}

Error cannot_be_named(int error_number, const std::string& path) {
  bool name = error_number == ENOENT || error_number == EINVAL || error_number == EILSEQ ||
              error_number == ENAMETOOLONG;
  if (!name) return system_error(error_number, path);
  return Error(ErrorKind::kFailed, path + ": the filesystem there does not take this name")
      .about_path(path);
}

// The setuid and setgid bits of a file that came into other hands: they would lend it their rights.
// `owner` and `group` are whose it was to be; -1: it stays with who restores.
std::uint32_t foreign_bits(int fd, const Entry& entry, uid_t owner, gid_t group) {
  struct stat st {};
  if ((entry.mode & (S_ISUID | S_ISGID)) == 0) return 0;
  if (::fstat(fd, &st) != 0) return S_ISUID | S_ISGID;
  std::uint32_t bits = 0;
  if (st.st_uid != (owner == static_cast<uid_t>(-1) ? entry.uid : owner)) bits |= S_ISUID;
  if (st.st_gid != (group == static_cast<gid_t>(-1) ? entry.gid : group)) bits |= S_ISGID;
  return bits;
}

}  // namespace

UnsetMetadata& UnsetMetadata::operator+=(const UnsetMetadata& other) {
  owners += other.owners;
  attributes += other.attributes;
  modes += other.modes;
  unmatched += other.unmatched;
  privileges += other.privileges;
  return *this;
}

TargetFolder::TargetFolder(std::string folder, OwnerRule owner, bool make, Making making)
    : folder_(std::move(folder)), owner_(owner), make_(make), making_(std::move(making)) {
  // From the deepest folder that is there on, everything is made below what is held open.
  std::vector<std::string> missing;
  std::string above = folder_;
  while (above.size() > 1 && !is_named(above)) {
    missing.push_back(base_name(above));
    above = parent_of(above);
  }
  Fd at = open_named(above, O_RDONLY | O_DIRECTORY);
  if (!at && (errno == ENOTDIR || errno == ENOENT)) {
    throw Error(ErrorKind::kUsage, above + " is no folder", "name a folder, or one to be made")
        .about_path(folder_);
  }
  if (!at) throw cannot_be_made(errno, above);
  made_ = !missing.empty();
  if (made_ && !below::may_make_in(at.get())) throw cannot_be_made(errno, folder_);
  if (made_ && !make_) return;
  for (; !missing.empty(); missing.pop_back()) {
    const std::string& name = missing.back();
    above = path_below(above, name);
    if (making_) making_(above);
    if (!below::make_folder(at.get(), name)) throw cannot_be_made(errno, above);
    at = below::open_folder(at.get(), name);
    if (!at) throw cannot_be_made(errno, above);
  }
  root_ = std::make_shared<const Fd>(std::move(at));
  struct statfs fs {};
  sync_each_ = ::fstatfs(root_->get(), &fs) == 0 && fs.f_type == kFuse;
}

void TargetFolder::sync() {
  if (root_) ::syncfs(root_->get());
}

int TargetFolder::folder_fd(const std::string& relative) {
  if (!root_) return -1;  // it is not there, and nothing is made
  // Goes on from the deepest that is open and lies above.
  while (!open_.empty() && !is_within(relative, open_.back().path)) open_.pop_back();
  if (relative.empty()) return root_->get();
  std::size_t at = open_.empty() ? 0 : open_.back().path.size() + 1;
  while (at <= relative.size()) {
    std::size_t end = std::min(relative.find('/', at), relative.size());
    std::string name = relative.substr(at, end - at);
    int parent = (open_.empty() ? root_ : open_.back().fd)->get();
    Fd next = below::open_folder(parent, name);
    if (!next && errno == ENOENT) {
      if (!make_) return -1;
      if (making_) making_(path_below(folder_, relative.substr(0, end)));
      if (!below::make_folder(parent, name) && errno != EEXIST) {
        throw system_error(errno, path_below(folder_, relative));
      }
      next = below::open_folder(parent, name);
    }
    if (!next) throw in_the_way(errno, path_below(folder_, relative.substr(0, end)));
    if (open_.size() == kMostOpen) open_.erase(open_.begin());
    open_.push_back({relative.substr(0, end), std::make_shared<const Fd>(std::move(next))});
    at = end + 1;
  }
  return open_.back().fd->get();
}

bool TargetFolder::make_folder(const std::string& relative) {
  if (relative.empty()) return was_made();
  bool there = exists(relative);
  folder_fd(relative);
  return !there;
}

namespace {

// Where the other case of a name is not there, case tells names apart.
bool stands_in(int folder, const std::string& name) {
  std::string other = name;
  for (char& c : other) {
    if (std::isalpha(static_cast<unsigned char>(c)) != 0) c = static_cast<char>(c ^ 0x20);
  }
  bool ascii = std::all_of(name.begin(), name.end(),
                           [](char c) { return static_cast<unsigned char>(c) < 0x80; });
  if (ascii && other == name) return true;  // it has one spelling only
  struct stat st {};
  if (other != name && !below::look(folder, other, st)) return true;
  std::vector<std::string> names;
  if (!below::list(folder, names)) throw system_error(errno, name);
  return std::binary_search(names.begin(), names.end(), name);
}

}  // namespace

bool TargetFolder::has_this_name(const std::string& relative) {
  Fd folder = held(folder_fd(""));
  for (const std::string& name : split(relative, '/')) {
    if (!folder) return true;  // it is gone again
    if (!stands_in(folder.get(), name)) return false;
    folder = below::open_folder(folder.get(), name);
  }
  return true;
}

bool TargetFolder::exists(const std::string& relative, struct stat* st) {
  struct stat local {};
  int parent = folder_fd(folder_above(relative));
  if (parent < 0) return false;
  return below::look(parent, base_name(relative), st == nullptr ? local : *st);
}

std::string TargetFolder::read_link(const std::string& relative) {
  int parent = folder_fd(folder_above(relative));
  std::string target;
  if (parent < 0 || !below::read_link(parent, base_name(relative), target)) return "";
  return target;
}

void TargetFolder::replace_by_folder(const std::string& relative) {
  put(relative, true, below::make_folder);
}

bool TargetFolder::put(const std::string& relative, bool replace,
                       const std::function<bool(int parent, const std::string& name)>& make) {
  Fd parent = held(folder_fd(folder_above(relative)));
  std::string name = base_name(relative);
  if (!replace) {
    if (make(parent.get(), name)) return true;
    if (errno == EEXIST) return false;
    throw system_error(errno, path_below(folder_, relative));
  }
  std::string temporary = temporary_name(name);
  drop(parent.get(), temporary);
  if (!make(parent.get(), temporary)) throw system_error(errno, path_below(folder_, relative));
  // Exchanged in one step, so that at no moment there is neither.
  struct stat st {};
  int folder = parent.get();
  bool taken = below::look(folder, name, st);
  if (taken && below::rename(folder, temporary, folder, name, RENAME_EXCHANGE)) {
    bool gone = S_ISDIR(st.st_mode) ? below::remove_folder(folder, temporary)
                                    : below::remove(folder, temporary);
    if (gone) return true;
    // A folder with something in it: back as it was.
    (void)below::rename(folder, temporary, folder, name, RENAME_EXCHANGE);
    drop(folder, temporary);
    return false;
  }
  if (below::rename(folder, temporary, folder, name)) return true;
  int error_number = errno;
  drop(folder, temporary);
  if (error_number == EISDIR || error_number == ENOTEMPTY || error_number == EEXIST) return false;
  throw system_error(error_number, path_below(folder_, relative));
}

void TargetFolder::drop_left_behind(const std::string& relative) {
  if (make_) drop(folder_fd(folder_above(relative)), temporary_name(base_name(relative)));
}

TargetFolder::Spot TargetFolder::spot(const std::string& relative) {
  int folder = folder_fd(folder_above(relative));
  return {open_.empty() ? root_ : open_.back().fd, base_name(relative),
          path_below(folder_, relative), sync_each_, has_unnamed_files(folder)};
}

// Tried once on each filesystem: some have such files, and no way to give them a name; and where
// root may do less than usual, not to those that belong to others.
bool TargetFolder::has_unnamed_files(int folder) {
  struct stat st {};
  if (::fstat(folder, &st) != 0) return false;
  auto [known, fresh] = unnamed_.try_emplace(st.st_dev, false);
  if (!fresh) return known->second;
  std::string name = temporary_name("");
  Fd file = below::unnamed_file(folder);
  if (!file) return false;
  if (::geteuid() == 0) below::set_owner(file.get(), kNobody, kNobody);
  drop(folder, name);
  known->second = below::give_name(file.get(), folder, name);
  drop(folder, name);
  return known->second;
}

mode_t TargetFolder::first_mode(const Entry& entry) {
  if (!entry.xattrs.empty()) return 0600;  // an access list may say something else
  mode_t all = (entry.mode >> 6) & (entry.mode >> 3) & entry.mode & 07;
  return (entry.mode & 0700) | (all << 3) | all;
}

TargetFolder::NewFile::NewFile(Spot spot, mode_t mode) : spot_(std::move(spot)) {
  if (spot_.unnamed) {
    fd_ = below::unnamed_file(spot_.parent->get(), mode);
    if (!fd_) throw system_error(errno, spot_.shown);
  } else {
    make_named(mode);
  }
}

void TargetFolder::NewFile::make_named(mode_t mode) {
  std::string name = temporary_name(spot_.name);
  // One that is there is left from a restore that was killed.
  for (int attempt = 0; attempt < 2 && !fd_; ++attempt) {
    if (attempt > 0) drop(spot_.parent->get(), name);
    fd_ = below::create(spot_.parent->get(), name, O_RDWR, mode);
  }
  if (!fd_) throw cannot_be_named(errno, spot_.shown);
  temporary_ = std::move(name);
}

TargetFolder::NewFile::~NewFile() {
  if (!temporary_.empty()) below::remove(spot_.parent->get(), temporary_);
}

void TargetFolder::NewFile::set_metadata(const Entry& entry, Owner owner, UnsetMetadata& unset) {
  struct stat st {};
  bool as_made = ::fstat(fd_.get(), &st) == 0 && entry.xattrs.empty();
  bool owned = (owner.user == static_cast<uid_t>(-1) || owner.user == st.st_uid) &&
               (owner.group == static_cast<gid_t>(-1) || owner.group == st.st_gid);
  if (!as_made || !owned || (st.st_mode & 07777) != entry.mode) {
    return TargetFolder::set_metadata(fd_.get(), entry, owner, unset);
  }
  timespec times[2] = {entry.mtime.spec(), entry.mtime.spec()};
  below::set_times(fd_.get(), times);
}

bool TargetFolder::NewFile::keep(bool replace) {
  const std::string& name = spot_.name;
  if ((replace || spot_.sync_each) && ::fsync(fd_.get()) != 0) throw system_error(errno, name);
  int folder = spot_.parent->get();
  struct stat st {};
  bool kept = false;
  if (replace) {
    bool is_folder = below::look(folder, name, st) && S_ISDIR(st.st_mode);
    if (is_folder && !below::remove_folder(folder, name)) return false;
    if (temporary_.empty()) take_temporary_name();
    kept = below::rename(folder, temporary_, folder, name);
  } else if (temporary_.empty()) {
    kept = below::give_name(fd_.get(), folder, name);
  } else {
    kept = below::rename(folder, temporary_, folder, name, RENAME_NOREPLACE);
    if (!kept && (errno == EINVAL || errno == ENOSYS)) {
      // A filesystem that cannot refuse to replace: look first.
      if (below::look(folder, name, st)) return false;
      kept = below::rename(folder, temporary_, folder, name);
    }
  }
  if (!kept && (replace || errno != EEXIST)) throw cannot_be_named(errno, spot_.shown);
  if (kept) temporary_.clear();
  return kept;
}

void TargetFolder::NewFile::take_temporary_name() {
  std::string name = temporary_name(spot_.name);
  drop(spot_.parent->get(), name);
  if (!below::give_name(fd_.get(), spot_.parent->get(), name)) {
    throw cannot_be_named(errno, spot_.shown);
  }
  temporary_ = std::move(name);
}

bool TargetFolder::make_link(const std::string& relative, const Entry& entry, UnsetMetadata& unset,
                             bool replace) {
  return put(relative, replace, [&](int parent, const std::string& name) {
    if (!below::make_link(parent, name, entry.target)) return false;
    set_metadata_of_made(parent, name, S_IFLNK, entry, unset);
    return true;
  });
}

bool TargetFolder::make_fifo_or_device(const std::string& relative, const Entry& entry,
                                       UnsetMetadata& unset, bool replace) {
  mode_t type = entry.type == EntryType::kFifo ? S_IFIFO : entry.block_device ? S_IFBLK : S_IFCHR;
  dev_t device = gnu_dev_makedev(entry.device_major, entry.device_minor);
  return put(relative, replace, [&](int parent, const std::string& name) {
    if (!below::make_node(parent, name, type | 0600, device)) return false;
    set_metadata_of_made(parent, name, type, entry, unset);
    return true;
  });
}

bool TargetFolder::make_hardlink(TargetFolder& from_tree, const std::string& existing,
                                 const std::string& relative, bool replace) {
  Fd from = held(from_tree.folder_fd(folder_above(existing)));
  std::string target = base_name(existing);
  return put(relative, replace, [&](int parent, const std::string& name) {
    return below::make_hardlink(from.get(), target, parent, name);
  });
}

TargetFolder::Owner TargetFolder::owner_of(const Entry& entry) {
  uid_t user = user_of(entry);
  return {user, group_of(entry)};
}

uid_t TargetFolder::user_of(const Entry& entry) {
  if (owner_ == OwnerRule::kMe) return static_cast<uid_t>(-1);
  if (owner_ == OwnerRule::kNumbers || entry.user.empty()) return entry.uid;
  auto [it, added] = users_.try_emplace(entry.user, -1);
  if (added) {
    const passwd* found = ::getpwnam(entry.user.c_str());
    if (found != nullptr) it->second = found->pw_uid;
  }
  if (it->second >= 0) return static_cast<uid_t>(it->second);
  ++unmatched_;
  return entry.uid;
}

gid_t TargetFolder::group_of(const Entry& entry) {
  if (owner_ == OwnerRule::kMe) return static_cast<gid_t>(-1);
  if (owner_ == OwnerRule::kNumbers || entry.group.empty()) return entry.gid;
  auto [it, added] = groups_.try_emplace(entry.group, -1);
  if (added) {
    const ::group* found = ::getgrnam(entry.group.c_str());
    if (found != nullptr) it->second = found->gr_gid;
  }
  return it->second < 0 ? entry.gid : static_cast<gid_t>(it->second);
}

void TargetFolder::set_metadata(int fd, const Entry& entry, Owner owner, UnsetMetadata& unset) {
  // Owner first: a change of owner clears the setuid bit. Times last: everything else moves them.
  if (!below::set_owner(fd, owner.user, owner.group)) ++unset.owners;
  for (const auto& [name, value] : entry.xattrs) {
    if (!below::set_attribute(fd, name, value)) ++unset.attributes;
  }
  std::uint32_t mode = entry.mode;
  if (entry.type != EntryType::kFolder) mode &= ~foreign_bits(fd, entry, owner.user, owner.group);
  if (entry.type != EntryType::kLink && !below::set_mode(fd, mode)) ++unset.modes;
  timespec times[2] = {entry.mtime.spec(), entry.mtime.spec()};
  below::set_times(fd, times);
}

void TargetFolder::set_metadata_of_made(int parent, const std::string& name, mode_t type,
                                        const Entry& entry, UnsetMetadata& unset) {
  Fd fd = below::open(parent, name, O_PATH);
  struct stat st {};
  // Whoever may write in this folder may have put another thing there by now.
  bool made = fd && ::fstat(fd.get(), &st) == 0 && (st.st_mode & S_IFMT) == type &&
              st.st_uid == ::geteuid() && st.st_nlink <= 1;
  if (made) return set_metadata(fd.get(), entry, unset);
  ++unset.owners;
  ++unset.modes;
}

void TargetFolder::set_folder_metadata(const std::string& relative, const Entry& entry,
                                       UnsetMetadata& unset) {
  set_metadata(folder_fd(relative), entry, unset);
}

}  // namespace kestrum
