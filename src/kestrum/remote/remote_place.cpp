#include "kestrum/remote/remote_place.h"

#include <algorithm>
#include <atomic>
#include <set>
#include <system_error>

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
constexpr std::size_t kAtATime = 6;              // exchanges
constexpr std::size_t kToWrite = 4;              // connections
constexpr std::size_t kAsLongAsConnecting = 6;   // exchanges
constexpr Nanos kWorthAnother = kSecond / 5;     // of waiting, which another connection would save
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
  return Retry::insist([&] {
    return store_->exists(at(path)) ||
           (may_be_aside(path) && store_->exists(at(path + std::string(kAside))));
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

// Connecting takes several round trips.
void RemotePlace::connect_ahead() {
  std::lock_guard lock(mutex_);
  if (!connecting_.empty() || store_->pace() < kWorthAnother / 10) return;
  try {
    for (std::size_t idle = store_->idle_connections(); idle < kToWrite; ++idle) {
      connecting_.push_back(
          std::async(std::launch::async, [store = store_] { store->connect_another(); }));
    }
  } catch (const std::system_error&) {
    // No thread to be had: who needs a connection makes it.
  }
}

std::unique_ptr<PlaceFile> RemotePlace::create(const std::string& path) {
  forget_fetched();
  connect_ahead();
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
  if (pace_ == 0) pace_ = store_->pace();
  std::size_t all = files.size() + folders.size();
  std::atomic<std::size_t> next = 0;
  auto work = [&](std::size_t most) {
    for (std::size_t i; most-- > 0 && (i = next++) < all;) {
      try {
        i < folders.size() ? fetch_list(folders[i]) : fetch(files[i - folders.size()]);
      } catch (const Error&) {
        // Who opens it asks again, and is told.
      }
    }
  };
  // Another connection costs something too: the first file tells whether the way is a long one.
  if (pace_ == 0 && all > 0) {
    Nanos began = steady_now();
    work(1);
    pace_ = std::max<Nanos>(steady_now() - began, 1);
  }
  std::size_t left = all - std::min(all, next.load()), idle = store_->idle_connections();
  auto worth = std::min(static_cast<std::size_t>(pace_ * static_cast<Nanos>(left) / kWorthAnother),
                        left / kAsLongAsConnecting);
  std::size_t lanes = std::min({kAtATime, left, std::max(worth, idle)});
  std::vector<std::future<void>> others;
  for (std::size_t i = 1; i < lanes; ++i) {
    others.push_back(std::async(std::launch::async, [&, connects = i >= idle] {
      if (connects) store_->connect_another();
      work(all);
    }));
  }
  work(all);
  for (std::future<void>& other : others) other.get();
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

std::string RemotePlace::free_aside(const std::string& path) {
  std::string first = path + std::string(kAside);
  auto newest = newest_aside(path);
  if (!newest || (*newest == first && may_be_gone(first))) return first;
  return first + std::to_string(aside_number(base_name(*newest)) + 1);
}

// Each step may have been done by a try whose answer was lost.
void RemotePlace::rename_there(const std::string& from, const std::string& to) {
  auto there = [&](const std::string& path) { return store_->exists(at(path)); };
  std::string aside;  // empty: nothing was in the way
  Retry::insist([&] {
    try {
      store_->rename(at(from), at(to));
    } catch (const Error& error) {
      if (error.kind() != ErrorKind::kFailed || !there(to)) throw;
      if (!there(from)) return;
      if (store_->names_folder(at(to))) throw;  // a folder never takes the place of another
      aside = free_aside(to);
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
  forget_fetched();
  Retry::insist([&] { store_->remove_file(at(path)); });
  Retry::insist([&] {
    while (auto aside = newest_aside(path)) store_->remove_file(at(*aside));
  });
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
