// A shelf in which one file is not the one that belongs there: an older state of it, one of another
// disk of the job, one by a PC or for a key that is not the shelf's any more, one of another set,
// or a cut one. Whoever reads gives exact content, or says what he cannot give.
#include <gtest/gtest.h>

#include <cstdlib>
#include <filesystem>
#include <random>

#include "kestrum/access/change_keys.h"
#include "kestrum/access/claim.h"
#include "kestrum/access/unlock.h"
#include "kestrum/base/error.h"
#include "kestrum/base/file.h"
#include "kestrum/restore/restore.h"
#include "support/engine_desk.h"

namespace kestrum::test {
namespace {

namespace fs = std::filesystem;

class Listener : public RestoreObserver {
 public:
  void restored(const std::string&, const std::string&, EntryType, bool) override {}
  void skipped(const std::string& path, const std::string&, const std::string& reason,
               bool) override {
    ADD_FAILURE() << path << " skipped: " << reason;
  }
  void failed(const std::string& path, const std::string&, bool) override { named.insert(path); }
  std::set<std::string> named;
};

class MixedShelf : public EngineDesk, public testing::TestWithParam<bool> {
 protected:
  // A shelf with four sets, of two chains, with two keys where it has any, by two PCs; its states
  // in between, and another disk's shelf of the same job.
  void grow() {
    put_file(desk.source() + "/same", "the same all the time");
    std::vector<std::string> words = {"--part-size", "100 kB"};
    if (!GetParam()) words.insert(words.end(), {"--protection", "none"});
    desk.define(words);
    wrap_cheaply();
    change_and_run({});
    keep_state();
    change_and_run({});
    keep_state();
    if (GetParam()) {
      OpenShelf open = find_shelf(machine(), job());
      IdentityFile identity = unlock_shelf(open, secret(passphrase()));
      start_new_key(open, std::move(identity), secret(passphrase()), {}, real_now());
    } else {
      next_.kind = SetKind::kFull;
    }
    change_and_run(next_);
    keep_state();
    take_over();
    change_and_run({});
    copy_tree(desk.shelf(), desk.folder / "state-newest");
    another_disk();
  }

  void change_and_run(const BackupOptions& options) {
    ++runs_;
    for (unsigned i = 0; i < 6; ++i) {
      if (runs_ > 1 && (i + runs_) % 3 != 0) continue;
      put_file(desk.source() + "/file-" + std::to_string(i),
               noise(45'000 + 10 * i, runs_ * 10 + i));
    }
    EXPECT_LE(run_once(options).exit, 1);
    learn();
  }
  void keep_state() {
    std::string to = desk.folder / ("state-" + std::to_string(states_.size()));
    copy_tree(desk.shelf(), to);
    states_.push_back(to);
  }
  void take_over() {
    Home other = Home::find(desk.folder / "new-home");
    ClaimOptions options;
    options.shelf = desk.shelf();
    options.passphrase = [&] { return std::optional(secret(passphrase())); };
    Observer quiet;
    claim_shelf(other, options, Clock(), quiet);
    home = other;
  }
  // The same job, run as often, on a shelf of its own.
  void another_disk() {
    Desk second;
    second.environment["KESTRUM_HOST"] = desk.environment["KESTRUM_HOST"];
    std::vector<std::string> words = {"job",         "new",   "desk",        "--from",
                                      desk.source(), "--to",  second.disk(), "--same-disk",
                                      "--part-size", "100 kB"};
    if (!GetParam()) words.insert(words.end(), {"--protection", "none"});
    ASSERT_EQ(second.kestrum(words).exit, 0);
    for (const char* kind : {"full", "incremental", "full", "incremental"}) {
      put_file(desk.source() + "/file-1", noise(45'000, random_()));
      ASSERT_LE(second.kestrum({"run", "desk", "--kind", kind}).exit, 1);
    }
    copy_tree(second.shelf(), desk.folder / "state-another-disk");
    states_.push_back(desk.folder / "state-another-disk");
  }

  static std::vector<std::string> files_in(const std::string& folder) {
    std::vector<std::string> files;
    for (const auto& entry : fs::recursive_directory_iterator(folder)) {
      if (entry.is_regular_file()) files.push_back(entry.path().string().substr(folder.size()));
    }
    std::sort(files.begin(), files.end());
    return files;
  }

  // Mixes one file up, and says how.
  std::string mix() {
    const std::string newest = desk.folder / "state-newest";
    copy_tree(newest, desk.shelf());
    std::vector<std::string> files = files_in(newest);
    std::string file = files[random_() % files.size()], there = desk.shelf() + file;
    unsigned how = random_() % 8;
    if (how == 0) {
      fs::resize_file(there, fs::file_size(there) / 2);
      return file + " is cut";
    }
    if (how == 1) {
      fs::remove(there);
      return file + " is missing";
    }
    // Another file of the same name: of an older state, of another disk, of another set.
    std::vector<std::string> others;
    std::vector<std::string> from = states_;
    from.push_back(newest);
    for (const std::string& state : from) {
      for (const std::string& other : files_in(state)) {
        if (base_name(other) != base_name(file)) continue;
        if (read_file(state + other) != read_file(newest + file)) others.push_back(state + other);
      }
    }
    if (others.empty()) return "";
    std::string other = others[random_() % others.size()];
    write_file(there, read_file(other));
    std::string signature = other + ".minisig";
    bool with_signature = random_() % 2 == 0 && path_exists(signature);
    if (with_signature) write_file(there + ".minisig", read_file(signature));
    return file + " is " + other + (with_signature ? ", with its signature" : "");
  }

  // Every set that there was comes back as it was, but for what is named.
  void expect_truth(const ReadOptions& options, const Home& by) {
    const std::string to = desk.folder / "back";
    for (const auto& [set, tree] : model) {
      fs::remove_all(to);
      Listener listener;
      bool refused = false;
      try {
        JobReader reader(MachineState(by), options, listener);
        ReadSession& session = *reader.sessions().front();
        RestoreSelection choice(session, *SetId::parse(set));
        choice.add("");
        RestoreRequest request;
        request.to = to;
        request.layout = Layout::kFull;
        kestrum::restore(session, choice, request, listener);
      } catch (const Error& error) {
        refused = true;
        EXPECT_FALSE(error.message().empty());
      }
      (refused ? refused_ : listener.named.empty() ? exact_ : named_)++;
      if (refused && !path_exists(to)) continue;
      Tree back = tree_of(to + desk.source());
      for (const auto& [path, state] : back) {
        bool right = tree.contains(path) && (path.empty() || tree.at(path) == state);
        EXPECT_TRUE(right || listener.named.contains(desk.source() + path))
            << set << ": " << path << " came back as something else";
      }
      if (refused) continue;
      for (const auto& [path, state] : tree) {
        EXPECT_TRUE(back.contains(path) || listener.named.contains(desk.source() + path))
            << set << ": " << path << " is missing, and nobody said so";
      }
    }
  }

  std::vector<std::string> states_;
  BackupOptions next_;
  unsigned runs_ = 0;
  std::mt19937 random_{GetParam() ? 7U : 8U};
  int exact_ = 0, named_ = 0, refused_ = 0;
};

INSTANTIATE_TEST_SUITE_P(Protections, MixedShelf, testing::Bool(),
                         [](const auto& of) { return of.param ? "Encrypted" : "Unprotected"; });

TEST_P(MixedShelf, GivesExactContentOrSaysWhatItCannotGive) {
  grow();
  ASSERT_FALSE(HasFailure());
  const char* more = std::getenv("KESTRUM_MIXES");
  int mixes = more == nullptr ? 24 : std::atoi(more);
  ReadOptions by_home, by_folder;
  by_home.job = job();
  by_folder.shelf_folder = desk.shelf();
  for (ReadOptions* options : {&by_home, &by_folder}) {
    options->need_content = true;
    options->keys.passphrase = [&] { return std::optional(secret(passphrase())); };
  }
  Home empty = Home::find(desk.folder / "empty-home");
  const std::string own_home = desk.folder / "new-home", aside = desk.folder / "home-kept";
  copy_tree(own_home, aside);
  for (int round = 0; round < mixes && !HasFailure(); ++round) {
    std::string how = mix();
    if (how.empty()) continue;
    SCOPED_TRACE(how);
    copy_tree(aside, own_home);
    {
      SCOPED_TRACE("by its own PC");
      expect_truth(by_home, home);
    }
    SCOPED_TRACE("by the folder alone");
    expect_truth(by_folder, empty);
  }
  EXPECT_GT(exact_, mixes);
  EXPECT_GT(named_ + refused_, mixes / 4);
  RecordProperty("exact", exact_);
  RecordProperty("named", named_);
  RecordProperty("refused", refused_);
}

}  // namespace
}  // namespace kestrum::test
