// What was held once, and was neither seen to be gone nor let go of, stays restorable: folders that
// are away, disks that are not mounted, sets made blind, rules about new files.
#include <gtest/gtest.h>
#include <sys/mount.h>
#include <sys/stat.h>
#include <unistd.h>

#include <algorithm>
#include <filesystem>
#include <set>

#include "kestrum/base/file.h"
#include "support/program.h"
#include "support/tree.h"

namespace kestrum::test {
namespace {

namespace fs = std::filesystem;

class LastKnown : public testing::Test {
 protected:
  ~LastKnown() override {
    for (const std::string& folder : mounted_) ::umount2(folder.c_str(), MNT_DETACH);
  }

  void define(const std::vector<std::string>& more) {
    desk.on_day(day_);
    std::vector<std::string> words = {"job", "new", "desk", "--to", desk.disk(), "--same-disk"};
    bool said = std::find(more.begin(), more.end(), "--protection") != more.end();
    if (!said) words.insert(words.end(), {"--protection", "none"});
    words.insert(words.end(), more.begin(), more.end());
    Ran ran = desk.kestrum(words);
    ASSERT_EQ(ran.exit, 0) << ran.err;
  }
  void add_key(const std::string& line) {
    std::string job = desk.folder / "home/jobs/desk.toml", text = read_file(job);
    write_file(job, text.replace(text.find("[source]\n"), 9, "[source]\n" + line + "\n"));
  }
  // The run of the next day.
  Json run(int exit = 0, const std::vector<std::string>& more = {}) {
    desk.on_day(++day_);
    std::vector<std::string> words = {"run", "desk"};
    words.insert(words.end(), more.begin(), more.end());
    return desk.json(words, exit)["runs"][0];
  }
  std::set<std::string> sets() { return desk.sets(); }
  // What a file held at a restore point; why not, if it cannot be had.
  std::string content(const std::string& path, const std::string& point) {
    Ran ran = desk.kestrum({"restore", "desk", path, "--point", point, "--to", "-"});
    return ran.exit == 0 ? ran.out : "exit " + std::to_string(ran.exit);
  }
  bool mount(const std::string& folder) {
    fs::create_directories(folder);
    if (::geteuid() != 0 || ::mount("tmpfs", folder.c_str(), "tmpfs", 0, "size=1m") != 0)
      return false;
    mounted_.insert(folder);
    return true;
  }
  void unmount(const std::string& folder) {
    ASSERT_EQ(::umount(folder.c_str()), 0);
    mounted_.erase(folder);
  }
  void put_homes() {
    put_file(home("anna") + "/docs/file", "anna");
    put_file(home("ben") + "/docs/file", "ben");
  }
  std::string home(const std::string& name) { return desk.folder / ("homes/" + name); }

  Desk desk;

 private:
  int day_ = 0;
  std::set<std::string> mounted_;
};

TEST_F(LastKnown, AFolderOfAPatternThatIsAwayTwiceIsAbsentTwice) {
  for (const char* name : {"anna", "ben"}) {
    for (int i = 0; i < 3; ++i) {
      put_file(home(name) + "/docs/file" + std::to_string(i), name);
    }
  }
  define({"--from", desk.folder / "homes/*/docs", "--new-full", "after 2 incrementals",
          "--keep-for", "0 days"});
  run();
  fs::rename(home("ben"), desk.folder / "away");
  for (int i = 0; i < 6; ++i) {
    Json report = run(1);
    EXPECT_EQ(report["files"]["absent"], 3) << "run " << i;
    EXPECT_EQ(report["files"]["left_out"], 0) << "run " << i;
    EXPECT_EQ(report["kind"], "incremental") << "full sets wait for it";
  }
  EXPECT_EQ(content(home("ben") + "/docs/file1", "newest"), "ben");
  fs::rename(desk.folder / "away", home("ben"));
  EXPECT_EQ(run()["kind"], "full");
  EXPECT_EQ(content(home("ben") + "/docs/file1", "newest"), "ben");
}

TEST_F(LastKnown, SomebodyLetsGoOfAFolderThatIsAway) {
  put_homes();
  define({"--from", desk.folder / "homes/*/docs", "--keep-for", "0 days"});
  run();
  fs::rename(home("ben"), desk.folder / "away");
  run(1);
  std::string folder = home("ben") + "/docs";
  EXPECT_EQ(desk.kestrum({"trust", "desk", "--gone-for-good", folder}).exit, 2) << "why?";
  EXPECT_EQ(
      desk.kestrum({"trust", "desk", "--gone-for-good", home("nobody"), "--because", "x"}).exit, 9);
  EXPECT_EQ(
      desk.kestrum({"trust", "desk", "--gone-for-good", home("anna") + "/docs", "--because", "x"})
          .exit,
      2)
      << "it is there";
  Json said = desk.json({"trust", "desk", "--gone-for-good", folder, "--because", "ben has left"});
  EXPECT_EQ(said["gone_for_good"], folder);
  Json report = run();
  EXPECT_EQ(report["files"]["gone"], 1);
  EXPECT_EQ(report["files"]["absent"], 0);
  EXPECT_EQ(content(folder + "/file", "newest"), "exit 9");
  EXPECT_EQ(content(folder + "/file", "c1-1"), "ben");
  EXPECT_EQ(run(0, {"--kind", "full"})["files"]["absent"], 0) << "said once is enough";
}

TEST_F(LastKnown, AFolderTakenOutOfTheJobIsLetGoOf) {
  put_homes();
  define(
      {"--from", home("anna") + "/docs", "--from", home("ben") + "/docs", "--keep-for", "0 days"});
  run();
  std::string job = desk.folder / "home/jobs/desk.toml", text = read_file(job);
  std::string entry = ", \"" + home("ben") + "/docs\"";
  ASSERT_NE(text.find(entry), std::string::npos) << text;
  write_file(job, text.erase(text.find(entry), entry.size()));
  EXPECT_EQ(run()["files"]["left_out"], 1);
  run(0, {"--kind", "full"});
  EXPECT_FALSE(sets().contains("c1-0")) << "nothing holds the chain for it";
}

// What a disk held that is away is not held for ever once the job has no use for it any more.
TEST_F(LastKnown, ADiskTakenOutOfTheJobIsLetGoOf) {
  std::string share = desk.folder / "share", also = desk.source() + "/also";
  bool mounted = mount(share) && mount(also);
  if (!mounted) GTEST_SKIP() << "needs root, to mount a disk";
  put_file(share + "/file", "on the disk");
  put_file(also + "/file", "on the other");
  put_file(desk.source() + "/plain", "plain");
  define({"--from", desk.source(), "--from", share, "--from", also, "--keep-for", "0 days"});
  run();
  unmount(share);
  unmount(also);
  for (int i = 0; i < 3; ++i) run(1, {"--kind", "full"});
  EXPECT_TRUE(sets().contains("c1-0"));
  std::string job = desk.folder / "home/jobs/desk.toml", text = read_file(job);
  std::string entry = ", \"" + share + "\"";
  ASSERT_NE(text.find(entry), std::string::npos) << text;
  text.erase(text.find(entry), entry.size());
  entry = ", \"" + also + "\"";
  ASSERT_NE(text.find(entry), std::string::npos) << text;
  write_file(job, text.erase(text.find(entry), entry.size()));
  run(1, {"--kind", "full"});
  EXPECT_TRUE(sets().contains("c1-0")) << "the folder within another is chosen still";
  add_key("leave_out = [\"also\"]");
  run(0, {"--kind", "full"});
  run(0, {"--kind", "full"});
  EXPECT_FALSE(sets().contains("c1-0")) << "nothing holds the chain for it";
}

TEST_F(LastKnown, AFullSetThatHasToBeMadeWhileAFolderIsAwayPrunesNothingOfIt) {
  put_homes();
  define({"--from", desk.folder / "homes/*/docs", "--keep-for", "0 days"});
  run();
  fs::rename(home("ben"), desk.folder / "away");
  // This PC forgets what the set before it was.
  std::string record;
  for (const auto& entry : fs::recursive_directory_iterator(desk.folder / "home")) {
    if (entry.path().filename() == "pin.json") record = entry.path();
  }
  std::string text = read_file(record);
  const std::string none = "\"full_because\": \"\"";
  ASSERT_NE(text.find(none), std::string::npos);
  write_file(record, text.replace(text.find(none), none.size(), "\"full_because\": \"a new key\""));
  Json report = run(1);
  EXPECT_EQ(report["kind"], "full");
  EXPECT_EQ(report["files"]["absent"], 1);
  for (int i = 0; i < 4; ++i) run(1, {"--kind", "full"});
  EXPECT_TRUE(sets().contains("c1-0"));
  EXPECT_EQ(content(home("ben") + "/docs/file", "c1-0"), "ben");
  EXPECT_FALSE(sets().contains("c3-0")) << "what is not needed goes";
  fs::rename(desk.folder / "away", home("ben"));
  run(0, {"--kind", "full"});
  EXPECT_FALSE(sets().contains("c1-0"));
}

TEST_F(LastKnown, WhatAnOrdinaryUserCannotReadAnyMoreIsHeldForAsLongAsItTakes) {
  if (::geteuid() != 0) GTEST_SKIP() << "needs root, to make files of two users";
  if (!have_program("setpriv")) GTEST_SKIP() << "needs setpriv";
  const std::string top = desk.source();
  for (int i = 0; i < 3; ++i) put_file(top + "/priv/file" + std::to_string(i), "private");
  put_file(top + "/open", "open");
  desk.become_nobody();
  define({"--from", top, "--keep-for", "0 days"});
  run();
  run_program({"chown", "-R", "root", top + "/priv"});
  ::chmod((top + "/priv").c_str(), 0700);
  for (int i = 0; i < 5; ++i) {
    put_file(top + "/more" + std::to_string(i), "unrelated files do not make up for it");
    EXPECT_EQ(run(1, {"--kind", "full"})["files"]["failed"], 0);
    EXPECT_TRUE(sets().contains("c1-0")) << "full set " << i + 2;
  }
  EXPECT_EQ(content(top + "/priv/file1", "c1-0"), "private");
  // One of them was deleted meanwhile, which is seen once the folder can be read.
  fs::remove(top + "/priv/file2");
  run_program({"chown", "-R", "nobody", top + "/priv"});
  run(0);
  EXPECT_FALSE(sets().contains("c1-0"));
  EXPECT_EQ(content(top + "/priv/file1", "newest"), "private");
}

TEST_F(LastKnown, ADifferentialThatCannotReadAFileHoldsTheOneThatCould) {
  if (::geteuid() != 0) GTEST_SKIP() << "needs root, to make files of two users";
  if (!have_program("setpriv")) GTEST_SKIP() << "needs setpriv";
  const std::string top = desk.source();
  put_file(top + "/book", "first");
  put_file(top + "/open", "open");
  desk.become_nobody();
  define({"--from", top, "--keep-for", "0 days"});
  run();
  put_file(top + "/book", "second, and longer");
  run_program({"chown", "nobody", top + "/book"});
  run(0, {"--kind", "differential"});
  run_program({"chown", "root", top + "/book"});
  ::chmod((top + "/book").c_str(), 0600);
  run(1, {"--kind", "differential"});
  for (int i = 0; i < 3; ++i) run(1, {"--kind", "full"});
  EXPECT_EQ(content(top + "/book", "c1-1"), "second, and longer") << "the last that was known";
}

TEST_F(LastKnown, AStrayFileInAMountPointDoesNotMakeTheDiskGone) {
  std::string share = desk.source() + "/share";
  if (!mount(share)) GTEST_SKIP() << "needs root, to mount a disk";
  for (int i = 0; i < 5; ++i) put_file(share + "/file" + std::to_string(i), "on the disk");
  define({"--from", desk.source(), "--from", share, "--keep-for", "0 days"});
  EXPECT_EQ(run()["files"]["seen"], 5);
  unmount(share);
  put_file(share + "/stray", "by mistake");
  Json report = run(1);
  EXPECT_EQ(report["files"]["absent"], 5);
  EXPECT_EQ(report["files"]["gone"], 0);
  EXPECT_EQ(content(share + "/stray", "newest"), "by mistake");
  EXPECT_EQ(content(share + "/file3", "newest"), "on the disk");
  for (int i = 0; i < 3; ++i) {
    run(1, {"--kind", "full"});
    run(1);
  }
  EXPECT_EQ(content(share + "/file3", "c1-1"), "on the disk");
}

// What lies on a disk and what lies in the folder below it take turns, and neither is ever gone.
TEST_F(LastKnown, ADiskAndTheFolderBelowItAreTwoThings) {
  std::string share = desk.source() + "/share";
  if (!mount(share)) GTEST_SKIP() << "needs root, to mount a disk";
  put_file(share + "/deleted", "on the disk");
  define({"--from", desk.source(), "--from", share, "--keep-for", "0 days"});
  run();
  std::filesystem::remove(share + "/deleted");
  EXPECT_EQ(run(1, {"--accept-empty"})["files"]["gone"], 1);
  unmount(share);
  put_file(share + "/letter", "below the disk");
  EXPECT_EQ(run(0)["files"]["absent"], 0) << "the disk held nothing any more";
  ASSERT_TRUE(mount(share));
  put_file(share + "/disk", "on the disk");
  for (const char* kind : {"incremental", "differential", "full", "incremental"}) {
    Json report = run(1, {"--kind", kind});
    EXPECT_EQ(report["files"]["gone"], 0) << kind;
  }
  for (int i = 0; i < 3; ++i) run(1, {"--kind", "full"});
  EXPECT_EQ(content(share + "/letter", "last-seen"), "below the disk");
  unmount(share);
  run(1);
  EXPECT_EQ(content(share + "/letter", "newest"), "below the disk");
  EXPECT_EQ(content(share + "/disk", "last-seen"), "on the disk");
}

TEST_F(LastKnown, AFolderThatADiskIsMountedOverIsHiddenAndNotLeftOut) {
  std::string folder = desk.source() + "/folder";
  for (int i = 0; i < 4; ++i) put_file(folder + "/file" + std::to_string(i), "below");
  put_file(desk.source() + "/other", "other");
  define({"--from", desk.source(), "--keep-for", "0 days"});
  run();
  if (!mount(folder)) GTEST_SKIP() << "needs root, to mount a disk";
  for (int i = 0; i < 2; ++i) {
    Json report = run(1);
    EXPECT_EQ(report["files"]["absent"], 4) << "run " << i;
    EXPECT_EQ(report["files"]["left_out"], 0) << "run " << i;
  }
  for (int i = 0; i < 3; ++i) run(1, {"--kind", "full"});
  EXPECT_EQ(content(folder + "/file3", "c1-1"), "below");
  unmount(folder);
  run(0);
  EXPECT_EQ(content(folder + "/file3", "newest"), "below");
}

TEST_F(LastKnown, AFolderNamedWithinAnotherIsCopied) {
  const std::string top = desk.source();
  put_file(top + "/.cache/tool/settings", "kept on purpose");
  put_file(top + "/.cache/other", "litter");
  put_file(top + "/skip/keep/file", "kept");
  put_file(top + "/skip/file", "skipped");
  bool mounted = mount(top + "/mnt");
  if (mounted) put_file(top + "/mnt/file", "on the disk");
  define({"--from", top, "--from", top + "/mnt", "--from", top + "/.cache/tool", "--from",
          top + "/skip/keep", "--leave-out", "skip"});
  EXPECT_EQ(run(mounted ? 0 : 1)["files"]["seen"], mounted ? 3 : 2);
  EXPECT_EQ(content(top + "/.cache/tool/settings", "newest"), "kept on purpose");
  EXPECT_EQ(content(top + "/skip/keep/file", "newest"), "kept");
  EXPECT_EQ(content(top + "/skip/file", "newest"), "exit 9");
  EXPECT_EQ(content(top + "/.cache/other", "newest"), "exit 9");
  if (mounted) {
    EXPECT_EQ(content(top + "/mnt/file", "newest"), "on the disk");
  }
  desk.on_day(9);
  EXPECT_EQ(
      desk.kestrum({"restore", "desk", "--to", desk.folder / "back", "--layout", "full"}).exit, 0);
  EXPECT_EQ(read_file(desk.folder / ("back" + top + "/skip/keep/file")), "kept");
}

TEST_F(LastKnown, ASetMadeBlindHoldsEverythingUntilItWasCompared) {
  put_file(desk.source() + "/file", "x");
  put_file(home("ben") + "/docs/file", "ben");
  define({"--protection", "passphrase", "--from", desk.source(), "--from",
          desk.folder / "homes/*/docs", "--keep-for", "0 days"});
  run();
  desk.lose_index();
  fs::rename(home("ben"), desk.folder / "away");
  std::string passphrase = desk.environment["KESTRUM_PASSPHRASE"];
  desk.environment["KESTRUM_PASSPHRASE"] = "";
  for (int i = 0; i < 3; ++i) {
    EXPECT_EQ(run(0, {"--kind", "full"})["files"]["absent"], 0) << "nothing is known of it";
    EXPECT_NE(desk.set_folder("c1-0"), "");
  }
  desk.environment["KESTRUM_PASSPHRASE"] = passphrase;
  run(1);
  EXPECT_NE(desk.set_folder("c1-0"), "") << "what is away is only there";
  EXPECT_EQ(sets(), (std::set<std::string>{"c1-0", "c4-0", "c4-1"}))
      << "the rest is compared, and goes";
  fs::rename(desk.folder / "away", home("ben"));
  run();
  EXPECT_FALSE(sets().contains("c1-0"));
  EXPECT_EQ(content(home("ben") + "/docs/file", "newest"), "ben");
}

// Two of them, and in between one that knew what the first had seen: found by the model, seed 518.
TEST_F(LastKnown, WhatWasFirstHeldBetweenSetsMadeBlindIsComparedToo) {
  put_file(desk.source() + "/file", "x");
  put_file(home("ben") + "/docs/file", "ben");
  define({"--protection", "passphrase", "--from", desk.source(), "--from",
          desk.folder / "homes/*/docs", "--keep-for", "0 days"});
  run();
  std::string passphrase = desk.environment["KESTRUM_PASSPHRASE"];
  desk.environment["KESTRUM_PASSPHRASE"] = "";
  desk.lose_index();
  put_file(home("ben") + "/docs/file", "ben, later");
  EXPECT_EQ(run()["set"], "c2-0");
  fs::rename(home("ben"), desk.folder / "away");
  EXPECT_EQ(run(1, {"--kind", "full"})["set"], "c3-0");
  desk.lose_index();
  EXPECT_EQ(run()["set"], "c4-0");
  desk.environment["KESTRUM_PASSPHRASE"] = passphrase;
  run(1);
  EXPECT_TRUE(sets().contains("c2-0")) << "it alone holds what ben wrote last";
  EXPECT_EQ(content(home("ben") + "/docs/file", "last-seen"), "ben, later");
  fs::rename(desk.folder / "away", home("ben"));
  run();
  EXPECT_EQ(sets(), (std::set<std::string>{"c4-0", "c4-1", "c4-2"}));
  EXPECT_EQ(content(home("ben") + "/docs/file", "newest"), "ben, later");
}

TEST_F(LastKnown, RulesAboutNewFilesDoNotHitWhatIsHeld) {
  const std::string top = desk.source();
  put_file(top + "/mailbox", "small");
  put_file(top + "/old", "old");
  timespec long_ago[2] = {{1'500'000'000, 0}, {1'500'000'000, 0}};
  ::utimensat(AT_FDCWD, (top + "/old").c_str(), long_ago, 0);
  define({"--from", top, "--keep-for", "0 days"});
  add_key("smaller_than = \"1 kB\"");
  run();
  add_key("changed_within = \"30 days\"");
  put_file(top + "/mailbox", std::string(5000, 'm'));
  put_file(top + "/new", std::string(5000, 'n'));
  run();
  EXPECT_EQ(content(top + "/mailbox", "newest"), std::string(5000, 'm')) << "it grew";
  EXPECT_EQ(content(top + "/new", "newest"), "exit 9");
  fs::rename(top + "/old", top + "/renamed");
  Json report = run();
  EXPECT_EQ(report["files"]["moved"], 1) << report.dump();
  EXPECT_EQ(content(top + "/renamed", "newest"), "old");
  // Nothing is known any more: nothing counts as new, and nothing goes.
  desk.lose_index();
  for (const auto& entry : fs::directory_iterator(desk.set_folder("c1-1"))) {
    if (entry.path().filename().string().starts_with("ledger")) fs::remove(entry.path());
  }
  report = run(1);
  EXPECT_EQ(report["kind"], "full");
  EXPECT_EQ(content(top + "/renamed", "newest"), "old");
  EXPECT_EQ(content(top + "/mailbox", "newest"), std::string(5000, 'm'));
  EXPECT_TRUE(report["pruned"].empty()) << report.dump();
  EXPECT_NE(desk.set_folder("c1-0"), "");
}

}  // namespace
}  // namespace kestrum::test
