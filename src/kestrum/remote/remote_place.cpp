#include "kestrum/remote/remote_place.h"

#include <algorithm>
#include <set>

#include "kestrum/base/error.h"
#include "kestrum/base/file.h"
#include "kestrum/place/address.h"
#include "kestrum/remote/download.h"
#include "kestrum/remote/ftps_store.h"
#include "kestrum/remote/retry.h"
#include "kestrum/remote/sftp_store.h"
#include "kestrum/remote/upload.h"
#include "kestrum/remote/webdav_store.h"

namespace kestrum {
namespace {

constexpr std::string_view kAside = ".old";

}  // namespace

RemotePlace::RemotePlace(const RemoteAddress& address, const std::string& folder)
    : store_(store_at(Connections::to(address))),
      root_(path_below(address.path, folder)),
      name_(path_below(address.text(), folder)) {
  if (Retry::insist([&] { return store_->size(root_); })) return;
  throw Error(ErrorKind::kPlace, name_ + ": no such folder on the server").about_path(name_);
}

std::string RemotePlace::at(const std::string& path) const {
  return path_below(root_, path == "." ? "" : path);
}

std::string RemotePlace::full(const std::string& path) const {
  return path_below(name_, path);
}

// Of what was being replaced, the one that was there before.
std::optional<std::uint64_t> RemotePlace::size(const std::string& path) {
  return Retry::insist([&] { return store_->size(at(path)); });
}

bool RemotePlace::exists(const std::string& path) {
  return size(path) || size(path + std::string(kAside));
}

std::vector<PlaceEntry> RemotePlace::list(const std::string& path) {
  auto found = Retry::insist([&] { return store_->list(at(path)); });
  if (!found) return {};
  std::set<std::string> names;
  for (const PlaceEntry& entry : *found) names.insert(entry.name);
  std::vector<PlaceEntry> shown;
  for (PlaceEntry& entry : *found) {
    // A list is as little to be trusted as all that comes from elsewhere.
    bool a_name = !entry.name.empty() && entry.name != "." && entry.name != ".." &&
                  entry.name.find('/') == std::string::npos &&
                  entry.name.find('\0') == std::string::npos;
    if (!a_name) continue;
    if (!entry.is_folder && entry.name.ends_with(kAside)) {
      entry.name.resize(entry.name.size() - kAside.size());
      if (names.contains(entry.name)) continue;
    }
    shown.push_back(std::move(entry));
  }
  std::sort(shown.begin(), shown.end(),
            [](const PlaceEntry& a, const PlaceEntry& b) { return a.name < b.name; });
  return shown;
}

void RemotePlace::make_folder(const std::string& path) {
  if (path.empty() || path == ".") return;
  if (Retry::insist([&] { return store_->make_folder(at(path)); })) return;
  make_folder(folder_above(path));
  if (Retry::insist([&] { return store_->make_folder(at(path)); })) return;
  throw Error(ErrorKind::kFailed, full(path) + ": it cannot be made").about_path(full(path));
}

std::unique_ptr<PlaceFile> RemotePlace::create(const std::string& path) {
  return std::make_unique<Upload>(store_, at(path), full(path));
}

std::unique_ptr<ByteSource> RemotePlace::open(const std::string& path, bool) {
  for (const std::string& name : {path, path + std::string(kAside)}) {
    if (auto length = size(name)) {
      return std::make_unique<Download>(store_, at(name), full(path), *length);
    }
  }
  throw Error(ErrorKind::kDamage, full(path) + ": it is not there").about_path(full(path));
}

// Each step may have been done by a try whose answer was lost.
void RemotePlace::rename(const std::string& from, const std::string& to) {
  std::string aside = to + std::string(kAside);
  auto there = [&](const std::string& path) { return store_->size(at(path)).has_value(); };
  Retry::insist([&] {
    if (!there(from) && there(to)) return;
    if (there(to)) {
      if (there(aside)) store_->remove_file(at(aside));
      store_->rename(at(to), at(aside));
    }
    store_->rename(at(from), at(to));
  });
  Retry::insist([&] {
    if (there(aside)) store_->remove_file(at(aside));
  });
}

void RemotePlace::remove_file(const std::string& path) {
  for (const std::string& name : {path + std::string(kAside), path}) {
    Retry::insist([&] { store_->remove_file(at(name)); });
  }
}

void RemotePlace::remove_folder(const std::string& path) {
  Retry::insist([&] { store_->remove_folder(at(path)); });
}

std::optional<Room> RemotePlace::room() {
  return Retry::insist([&] { return store_->room(root_); });
}

namespace {

class NoHold : public PlaceHold {};

}  // namespace

std::unique_ptr<PlaceHold> RemotePlace::hold(const std::string&) {
  return std::make_unique<NoHold>();
}

std::unique_ptr<PlaceHold> RemotePlace::take(const std::string&) {
  return std::make_unique<NoHold>();
}

std::unique_ptr<Store> store_at(std::shared_ptr<Connections> connections) {
  switch (connections->address().protocol) {
    case RemoteAddress::Protocol::kSftp:
      return std::make_unique<SftpStore>(std::move(connections));
    case RemoteAddress::Protocol::kWebdav:
    case RemoteAddress::Protocol::kWebdavs:
      return std::make_unique<WebdavStore>(std::move(connections));
    case RemoteAddress::Protocol::kFtps:
      return std::make_unique<FtpsStore>(std::move(connections));
  }
  throw Error(ErrorKind::kUsage, "no such protocol");
}

}  // namespace kestrum
