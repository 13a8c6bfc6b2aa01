#include "kestrum/remote/remote_place.h"

#include <algorithm>
#include <set>

#include "kestrum/base/clock.h"
#include "kestrum/base/error.h"
#include "kestrum/base/file.h"
#include "kestrum/base/text.h"
#include "kestrum/place/address.h"
#include "kestrum/remote/download.h"
#include "kestrum/remote/ftps_store.h"
#include "kestrum/remote/retry.h"
#include "kestrum/remote/sftp_store.h"
#include "kestrum/remote/spooled_upload.h"
#include "kestrum/remote/upload.h"
#include "kestrum/remote/webdav_store.h"

namespace kestrum {
namespace {

constexpr std::string_view kAside = ".old";
constexpr std::uint64_t kFetchedMost = 1 << 20;  // bytes of a file that counts as small

// The number of what was kept aside, by its name: 1 for NAME.old, 2 for NAME.old2; 0 for any other.
unsigned aside_number(std::string_view name) {
  constexpr std::size_t kDigitsAtMost = 6;
  std::size_t at = name.rfind(kAside);
  if (at == std::string_view::npos || at == 0) return 0;
  std::string_view digits = name.substr(at + kAside.size());
  if (digits.empty()) return 1;
  auto number = digits.size() <= kDigitsAtMost ? parse_count(digits) : std::nullopt;
  return number && *number > 1 ? static_cast<unsigned>(*number) : 0;
}

std::string without_aside(const std::string& name) {
  return name.substr(0, name.rfind(kAside));
}

// What is being written is never replaced by something else.
bool may_be_aside(const std::string& path) {
  return !path.ends_with(".new");
}

std::unique_ptr<Store> store_at(const RemoteAddress& address) {
  switch (address.protocol) {
    case RemoteAddress::Protocol::kSftp:
      return std::make_unique<SftpStore>(client_of<SftpServer>(address));
    case RemoteAddress::Protocol::kWebdav:
    case RemoteAddress::Protocol::kWebdavs:
      return std::make_unique<WebdavStore>(client_of<Connections>(address));
    case RemoteAddress::Protocol::kFtps:
      return std::make_unique<FtpsStore>(client_of<Connections>(address));
  }
  throw Error(ErrorKind::kUsage, "no such protocol");
}

}  // namespace

RemotePlace::RemotePlace(const RemoteAddress& address, const std::string& folder)
    : store_(store_at(address)),
      crew_(store_),
      root_(path_below(address.path, folder)),
      name_(path_below(address.text(), folder)) {}

std::string RemotePlace::at(const std::string& path) const {
  return path_below(root_, path == "." ? "" : path);
}

std::string RemotePlace::full(const std::string& path) const {
  return path_below(name_, path);
}

std::optional<std::uint64_t> RemotePlace::size(const std::string& path) {
  return Retry::insist([&] { return store_->size(at(path)); });
}

bool RemotePlace::exists(const std::string& path) {
  auto known = files_.look(path, [](const std::optional<Bytes>& file) { return file.has_value(); });
  if (known) return *known;
  const std::string aside = path + std::string(kAside);
  return Retry::insist([&] {
    if (!may_be_aside(path)) return store_->exists(at(path));
    if (crew_.at_hand() < 2) return store_->exists(at(path)) || store_->exists(at(aside));
    bool named = false, kept_aside = false;
    crew_.do_all({[&] { named = store_->exists(at(path)); },
                  [&] { kept_aside = store_->exists(at(aside)); }});
    return named || kept_aside;
  });
}

std::vector<PlaceEntry> RemotePlace::list(const std::string& path) {
  if (auto known = lists_.take(path)) return shown_of(std::move(*known));
  auto found = Retry::insist([&] { return store_->list(at(path)); });
  return found ? shown_of(std::move(*found)) : std::vector<PlaceEntry>();
}

// What a folder shows: what was kept aside under the name that it had.
std::vector<PlaceEntry> RemotePlace::shown_of(std::vector<PlaceEntry> found) {
  std::set<std::string> names;
  for (const PlaceEntry& entry : found) names.insert(entry.name);
  std::vector<PlaceEntry> shown;
  for (PlaceEntry& entry : found) {
    // A list is as little to be trusted as all that comes from elsewhere.
    bool a_name = !entry.name.empty() && entry.name != "." && entry.name != ".." &&
                  entry.name.find('/') == std::string::npos &&
                  entry.name.find('\0') == std::string::npos;
    if (!a_name) continue;
    if (!entry.is_folder && aside_number(entry.name) > 0) {
      entry.name = without_aside(entry.name);
      if (!names.insert(entry.name).second) continue;
    }
    shown.push_back(std::move(entry));
  }
  std::sort(shown.begin(), shown.end(),
            [](const PlaceEntry& a, const PlaceEntry& b) { return a.name < b.name; });
  return shown;
}

void RemotePlace::make_folder(const std::string& path) {
  forget_fetched();
  if (path.empty() || path == ".") return;
  if (Retry::insist([&] { return store_->make_folder(at(path)); })) return;
  make_folder(folder_above(path));
  if (Retry::insist([&] { return store_->make_folder(at(path)); })) return;
  throw Error(ErrorKind::kFailed, full(path) + ": it cannot be made").about_path(full(path));
}

std::unique_ptr<PlaceFile> RemotePlace::create(const std::string& path) {
  forget_fetched();
  crew_.connect_ahead();
  if (!store_->goes_on()) {
    return std::make_unique<SpooledUpload>(store_, at(path), full(path),
                                           remote_context().spool_folder);
  }
  return std::make_unique<Upload>(store_, at(path), full(path));
}

std::unique_ptr<ByteSource> RemotePlace::open(const std::string& path, bool from_disk) {
  if (auto known = taken_ahead(path, from_disk)) return known;
  if (auto length = size(path)) {
    return std::make_unique<Download>(store_, at(path), full(path), *length);
  }
  // Of what is being replaced, the one that was there before.
  if (auto aside = Retry::insist([&] { return newest_aside(path); })) {
    if (auto length = size(*aside)) {
      return std::make_unique<Download>(store_, at(*aside), full(path), *length);
    }
  }
  throw Error(ErrorKind::kDamage, full(path) + ": it is not there").about_path(full(path));
}

std::unique_ptr<ByteSource> RemotePlace::open_whole(const std::string& path, std::uint64_t limit,
                                                    bool from_disk) {
  if (auto known = taken_ahead(path, from_disk)) return known;
  try {
    auto content = store_->read_whole(at(path), limit);
    if (content) return std::make_unique<MemorySource>(std::move(*content));
  } catch (const BrokenConnection&) {
    // Piece by piece then.
  }
  return open(path, from_disk);
}

bool RemotePlace::follow(const std::string& path, const Following& following) {
  Retry retry(following.given_up);
  for (std::uint64_t at = 0;;) {
    std::uint64_t before = at;
    try {
      return store_->follow(this->at(path), at, following);
    } catch (const BrokenConnection& error) {
      if (at > before) retry.came_through();
      retry.wait_after(error);
    }
  }
}

void RemotePlace::fetch(const std::string& file) {
  if (files_.has(file)) return;
  auto content = store_->read_whole(at(file), kFetchedMost);
  if (!content && may_be_aside(file) && store_->exists(at(file + std::string(kAside)))) return;
  files_.put(file, std::move(content));
}

void RemotePlace::fetch_list(const std::string& folder) {
  if (lists_.has(folder)) return;
  lists_.put(folder, store_->list(at(folder)).value_or(std::vector<PlaceEntry>()));
}

void RemotePlace::fetch_ahead(const std::vector<std::string>& files,
                              const std::vector<std::string>& folders) {
  std::vector<Crew::Task> tasks;
  auto add = [&](auto what, const std::string& path) {
    tasks.push_back([this, what, &path] {
      try {
        (this->*what)(path);
      } catch (const Error&) {
        // Who opens it asks again, and is told.
      }
    });
  };
  for (const std::string& folder : folders) add(&RemotePlace::fetch_list, folder);
  for (const std::string& file : files) add(&RemotePlace::fetch, file);
  crew_.do_all(std::move(tasks));
}

std::unique_ptr<ByteSource> RemotePlace::taken_ahead(const std::string& path, bool from_disk) {
  auto known = from_disk ? std::nullopt : files_.take(path);
  return known && *known ? std::make_unique<MemorySource>(std::move(**known)) : nullptr;
}

void RemotePlace::forget_fetched() {
  files_.clear();
  lists_.clear();
}

std::optional<std::string> RemotePlace::newest_aside(const std::string& path) {
  std::string first = path + std::string(kAside);
  if (!store_->exists(at(first))) return std::nullopt;
  std::optional<std::string> newest;
  unsigned highest = 0;
  for (const PlaceEntry& entry :
       store_->list(at(folder_above(path))).value_or(std::vector<PlaceEntry>{})) {
    unsigned number = entry.is_folder ? 0 : aside_number(entry.name);
    if (number <= highest || without_aside(entry.name) != base_name(path)) continue;
    highest = number;
    newest = path + std::string(kAside) + (number > 1 ? std::to_string(number) : "");
  }
  return newest;
}

bool RemotePlace::may_be_gone(const std::string& path) {
  try {
    store_->remove_file(at(path));
    return true;
  } catch (const Error& error) {
    if (error.kind() != ErrorKind::kFailed) throw;
    return false;
  }
}

std::string RemotePlace::free_aside(const std::string& path,
                                    const std::optional<std::string>& newest) {
  std::string first = path + std::string(kAside);
  if (!newest || (*newest == first && may_be_gone(first))) return first;
  return first + std::to_string(aside_number(base_name(*newest)) + 1);
}

// Each step may have been done by a try whose answer was lost.
void RemotePlace::rename_there(const std::string& from, const std::string& to) {
  std::string aside;  // empty: nothing was in the way
  Retry::insist([&] {
    try {
      store_->rename(at(from), at(to));
    } catch (const Error& error) {
      bool comes = false, is_in_the_way = false, is_folder = false;
      std::optional<std::string> newest;
      if (error.kind() != ErrorKind::kFailed) throw;
      crew_.do_all({[&] { is_in_the_way = store_->exists(at(to)); },
                    [&] { comes = store_->exists(at(from)); },
                    [&] { is_folder = store_->names_folder(at(to)); },
                    [&] { newest = newest_aside(to); }});
      if (!is_in_the_way) throw;
      if (!comes) return;
      if (is_folder) throw;  // a folder never takes the place of another
      aside = free_aside(to, newest);
      store_->rename(at(to), at(aside));
      store_->rename(at(from), at(to));
    }
  });
  // Where it may not be removed it counts no more.
  if (!aside.empty()) Retry::insist([&] { may_be_gone(aside); });
}

void RemotePlace::copy_there(const std::string& from, const std::string& to) {
  auto source = open(from, true);
  copy_bytes(*source, *create(to));
  if (size(to) != source->size()) {
    throw Error(ErrorKind::kFailed, full(to) + ": it is not as long as it was written");
  }
  Retry::insist([&] { may_be_gone(from); });
}

void RemotePlace::rename(const std::string& from, const std::string& to) {
  forget_fetched();
  try {
    rename_there(from, to);
  } catch (const Error& error) {
    if (error.kind() != ErrorKind::kFailed || may_rename()) throw;
    if (Retry::insist([&] { return store_->names_folder(at(from)); })) throw;
    copy_there(from, to);
  }
}

void RemotePlace::put_probe() {
  if (Retry::insist([&] { return store_->exists(at(kProbeFile)); })) return;
  auto probe = create(kProbeFile);
  probe->write(as_bytes("whether it can be removed\n"));
  probe->sync();
}

bool RemotePlace::may_rename() {
  {
    std::lock_guard lock(mutex_);
    if (may_rename_) return *may_rename_;
  }
  put_probe();
  const std::string other = kRenamedProbe;
  bool may = Retry::insist([&] {
    try {
      if (store_->exists(at(other)) && !may_be_gone(other)) return true;  // it was renamed before
      store_->rename(at(kProbeFile), at(other));
      return true;
    } catch (const Error& error) {
      if (error.kind() != ErrorKind::kFailed) throw;
      return !store_->exists(at(kProbeFile)) && store_->exists(at(other));
    }
  });
  for (const std::string& name : {other, std::string(kProbeFile)}) {
    Retry::insist([&] { may_be_gone(name); });
  }
  std::lock_guard lock(mutex_);
  may_rename_ = may;
  return may;
}

bool RemotePlace::may_remove() {
  {
    std::lock_guard lock(mutex_);
    if (may_remove_) return *may_remove_;
  }
  put_probe();
  bool may = Retry::insist([&] { return may_be_gone(kProbeFile); });
  std::lock_guard lock(mutex_);
  may_remove_ = may;
  return may;
}

void RemotePlace::remove_file(const std::string& path) {
  remove_files({path});
}

void RemotePlace::remove_files(const std::vector<std::string>& paths) {
  forget_fetched();
  std::vector<std::optional<std::string>> asides(paths.size());
  Retry::insist([&] {
    std::vector<Crew::Task> tasks;
    for (std::size_t i = 0; i < paths.size(); ++i) {
      tasks.push_back([this, path = at(paths[i])] { store_->remove_file(path); });
      tasks.push_back([&, i] { asides[i] = newest_aside(paths[i]); });
    }
    crew_.do_all(std::move(tasks));
  });
  for (std::size_t i = 0; i < paths.size(); ++i) {
    Retry::insist([&] {
      for (; asides[i]; asides[i] = newest_aside(paths[i])) store_->remove_file(at(*asides[i]));
    });
  }
}

void RemotePlace::remove_folder(const std::string& path) {
  forget_fetched();
  Retry::insist([&] { store_->remove_folder(at(path)); });
}

std::optional<Room> RemotePlace::room() {
  return Retry::insist([&] { return store_->room(root_); });
}

std::unique_ptr<PlaceHold> RemotePlace::hold(const std::string&) {
  return std::make_unique<PlaceHold>();
}

std::unique_ptr<PlaceHold> RemotePlace::take(const std::string&) {
  return std::make_unique<PlaceHold>();
}

}  // namespace kestrum
