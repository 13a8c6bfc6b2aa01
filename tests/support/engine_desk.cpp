#include "support/engine_desk.h"

#include <gtest/gtest.h>

#include <cstdlib>
#include <filesystem>

#include "kestrum/access/change_keys.h"
#include "kestrum/access/open_place.h"
#include "kestrum/access/rebuild_index.h"
#include "kestrum/access/unlock.h"
#include "kestrum/base/error.h"
#include "kestrum/base/file.h"
#include "kestrum/crypto/age_header.h"
#include "kestrum/job/job_store.h"
#include "kestrum/place/local_place.h"
#include "support/cheap_scrypt.h"

namespace kestrum::test {

namespace fs = std::filesystem;

void QuietRestore::skipped(const std::string& path, const std::string&, const std::string& reason,
                           bool) {
  ADD_FAILURE() << path << " skipped: " << reason;
}

void QuietRestore::failed(const std::string& path, const std::string& reason, bool) {
  ADD_FAILURE() << path << " failed: " << reason;
}

void copy_tree(const std::string& from, const std::string& to) {
  fs::remove_all(to);
  fs::copy(from, to, fs::copy_options::recursive | fs::copy_options::copy_symlinks);
}

EngineDesk::EngineDesk() : home(Home::find(desk.folder / "home")) {
  crypto_start();
  set_scrypt_log_written(kCheapScrypt);
  ::setenv("KESTRUM_HOST", desk.environment["KESTRUM_HOST"].c_str(), 1);
}

EngineDesk::~EngineDesk() {
  set_place_opener({});
  set_scrypt_log_written(kScryptLogWritten);
}

void EngineDesk::wrap_cheaply() {
  if (!job().encrypted) return;
  OpenShelf open = find_shelf(machine(), job());
  IdentityFile identity = unlock_shelf(open, secret(passphrase()));
  rewrap_identity(open, identity, secret(passphrase()), {});
}

RunReport EngineDesk::run_once(const BackupOptions& given) {
  Observer quiet;
  BackupOptions options = given;
  options.passphrase = [&] { return std::optional(secret(passphrase())); };
  options.job_text = read_file(JobStore(home).path("desk"));
  return run_backup(machine(), job(), options, Clock(), quiet);
}

void EngineDesk::change_a_large_file(std::size_t size) {
  std::string content = noise(size, 9), box = desk.source() + "/mail.box";
  put_file(box, content);
  ASSERT_EQ(desk.kestrum({"job", "set", "desk", "source.stretches_above", "1 MB"}).exit, 0);
  ASSERT_EQ(desk.kestrum({"run", "desk", "--kind", "full"}).exit, 0);
  learn();
  put_file(box, content.replace(700'000, 5, "words").insert(1'500'000, noise(size / 6, 2)));
}

void EngineDesk::remember() {
  copy_tree(desk.folder / "home", desk.folder / "home-before");
  copy_tree(desk.disk(), desk.folder / "disk-before");
}

void EngineDesk::put_back() {
  copy_tree(desk.folder / "home-before", desk.folder / "home");
  copy_tree(desk.folder / "disk-before", desk.disk());
}

std::set<std::string> EngineDesk::sets() const {
  std::set<std::string> ids;
  auto place = std::make_shared<LocalPlace>(desk.shelf());
  Shelf shelf(place, Shelf::read_label(*place), {});
  for (const ShelfSet& set : shelf.sets()) {
    if (!set.sealed()) continue;
    EXPECT_TRUE(ids.insert(set.id.to_string()).second) << "a number used twice";
  }
  return ids;
}

void EngineDesk::learn() {
  std::optional<Tree> now;
  for (const std::string& set : sets()) {
    if (model.contains(set)) continue;
    if (!now) now = tree_of(desk.source());
    model[set] = *now;
  }
}

std::string EngineDesk::restore(const ReadOptions& options, const Home& by,
                                const std::optional<std::string>& moment, RestoreObserver& told) {
  std::string to = desk.folder / "back";
  fs::remove_all(to);
  JobReader reader(MachineState(by), options, told);
  JobReader::Point point = reader.choose(moment, Clock().now());
  RestoreSelection choice(*point.session, point.set);
  choice.add("");
  RestoreRequest request;
  request.to = to;
  request.layout = Layout::kFull;
  kestrum::restore(*point.session, choice, request, told);
  return to + desk.source();
}

void EngineDesk::expect_every_point() {
  for (const std::string& set : sets()) expect_point(set);
}

void EngineDesk::expect_point(const std::string& set) {
  ReadOptions by_home, by_folder;
  by_home.job = job();
  by_folder.shelf_folder = desk.shelf();
  for (ReadOptions* options : {&by_home, &by_folder}) {
    options->need_content = true;
    options->keys.passphrase = [&] { return std::optional(secret(passphrase())); };
  }
  Home empty = Home::find(desk.folder / "empty-home");
  ASSERT_TRUE(model.contains(set)) << set;
  for (bool own : {true, false}) {
    SCOPED_TRACE(set + (own ? " by this home" : " by the folder alone"));
    try {
      QuietRestore quiet;
      std::string back = restore(own ? by_home : by_folder, own ? home : empty, set, quiet);
      EXPECT_EQ(difference(model[set], tree_of(back)), "");
    } catch (const Error& error) {
      ADD_FAILURE() << error.message();
    }
  }
}

void EngineDesk::expect_index_is_true() {
  OpenShelf open = find_shelf(machine(), job());
  std::vector<Identity> identities;
  if (open.shelf.label().recipient) {
    identities = unlock_shelf(open, secret(passphrase())).identities;
  }
  for (const auto& text : index_differences(home, desk.shelf(), identities)) ADD_FAILURE() << text;
}

std::vector<std::string> index_differences(const Home& home, const std::string& shelf,
                                           std::span<const Identity> identities) {
  OpenShelf open = open_shelf_at(MachineState(home), shelf);
  if (!open.state || !path_exists(open.state->index_path())) return {};
  Index index(open.state->index_path());
  for (const IndexedSet& known : index.sets()) {
    if (open.shelf.find(known.set) == nullptr) return {};
  }
  return check_index(open.shelf, index, identities);
}

}  // namespace kestrum::test
