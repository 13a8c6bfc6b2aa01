// What a run says of each file, and that nothing looks deleted that is not.
#include <fcntl.h>
#include <gtest/gtest.h>
#include <sys/mount.h>
#include <sys/stat.h>
#include <sys/wait.h>
#include <unistd.h>

#include <csignal>
#include <filesystem>

#include "kestrum/base/file.h"
#include "support/program.h"
#include "support/tree.h"

namespace kestrum::test {
namespace {

namespace fs = std::filesystem;

class WhatHappened : public testing::Test {
 protected:
  void SetUp() override {
    put_file(desk.source() + "/docs/one.txt", "one");
    put_file(desk.source() + "/docs/two.txt", "two");
    put_file(desk.source() + "/mail/inbox", noise(30'000, 1));
    desk.define({"--protection", "none"});
    run();
  }
  Json run(int exit = 0, const std::vector<std::string>& more = {}) {
    std::vector<std::string> words = {"run", "desk"};
    words.insert(words.end(), more.begin(), more.end());
    return desk.json(words, exit)["runs"][0];
  }
  // Paths below the source at the newest restore point.
  std::set<std::string> held() {
    std::set<std::string> paths;
    Json found = desk.json({"look", "desk", desk.source(), "--depth", "9"});
    for (const Json& entry : found["entries"]) {
      if (entry["type"] == "file") {
        paths.insert(entry["path"].get<std::string>().substr(desk.source().size()));
      }
    }
    return paths;
  }
  void expect_files(const Json& report, std::map<std::string, int> counts) {
    for (const auto& [word, count] : counts) EXPECT_EQ(report["files"][word], count) << word;
  }
  Desk desk;
  const std::set<std::string> all = {"/docs/one.txt", "/docs/two.txt", "/mail/inbox"};
};

TEST_F(WhatHappened, AnUnchangedTreeCopiesNothing) {
  Json report = run();
  expect_files(report, {{"seen", 3}, {"same", 3}, {"copied", 0}, {"gone", 0}});
  EXPECT_EQ(report["bytes"]["copied"], 0);
  EXPECT_EQ(report["kind"], "incremental");
  EXPECT_EQ(report["based_on"], "c1-0");
  EXPECT_EQ(held(), all);
}

TEST_F(WhatHappened, AMovedFileCostsNoContentAndIsNotCalledGone) {
  fs::rename(desk.source() + "/mail/inbox", desk.source() + "/docs/old inbox");
  Json report = run();
  expect_files(report, {{"seen", 3}, {"moved", 1}, {"same", 2}, {"copied", 0}, {"gone", 0}});
  EXPECT_EQ(report["bytes"]["copied"], 0);
}

TEST_F(WhatHappened, ACopyAndARetaggedFileCostNoContent) {
  fs::copy_file(desk.source() + "/mail/inbox", desk.source() + "/docs/copy");
  ::chmod((desk.source() + "/docs/one.txt").c_str(), 0600);
  fs::last_write_time(desk.source() + "/docs/two.txt", fs::file_time_type::clock::now());
  Json report = run();
  expect_files(report, {{"seen", 4}, {"moved", 1}, {"same", 3}, {"copied", 0}});
  EXPECT_EQ(report["bytes"]["copied"], 0);
  put_file(desk.source() + "/docs/large", noise(12'000'000, 2));
  EXPECT_EQ(run()["bytes"]["copied"], 12'000'000);
  fs::copy_file(desk.source() + "/docs/large", desk.source() + "/docs/large copy");
  fs::last_write_time(desk.source() + "/docs/large", fs::file_time_type::clock::now());
  EXPECT_EQ(run()["bytes"]["copied"], 0);
}

TEST_F(WhatHappened, ADeletedFileIsGoneAndItsFolderWithIt) {
  fs::remove_all(desk.source() + "/docs");
  expect_files(run(), {{"seen", 1}, {"gone", 2}, {"absent", 0}});
  EXPECT_EQ(held(), std::set<std::string>{"/mail/inbox"});
}

TEST_F(WhatHappened, AMissingSourceFolderIsAbsentNamedAndTheOthersAreCopied) {
  std::string file = desk.folder / "home/jobs/desk.toml";
  std::string text = read_file(file);
  std::string list = "[\"" + desk.source() + "/docs\", \"" + desk.source() + "/mail\"]";
  text.replace(text.find("folders = "),
               text.find('\n', text.find("folders = ")) - text.find("folders = "),
               "folders = " + list);
  write_file(file, text);
  run();
  fs::rename(desk.source() + "/docs", desk.folder / "elsewhere");
  put_file(desk.source() + "/mail/new", "new");
  Json report = run(1);
  EXPECT_EQ(report["outcome"], "done with warnings");
  expect_files(report, {{"seen", 2}, {"copied", 1}, {"absent", 2}, {"gone", 0}});
  EXPECT_EQ(report["warnings"][0]["path"], desk.source() + "/docs");
  EXPECT_EQ(held(),
            (std::set<std::string>{"/docs/one.txt", "/docs/two.txt", "/mail/inbox", "/mail/new"}));
}

// As an ordinary user: root can read everything.
TEST(WhatAnOrdinaryUserCannotRead, IsNamedCountedAndCarriedForward) {
  if (::geteuid() != 0) GTEST_SKIP() << "needs root to become somebody else";
  Desk desk;
  put_file(desk.source() + "/open.txt", "open");
  put_file(desk.source() + "/secret.txt", "was readable");
  put_file(desk.source() + "/closed/inside.txt", "inside");
  put_file(desk.folder / "script", "");
  auto as_user = [&](const std::string& words) {
    return run_script("chown -R 4321:4321 " + desk.folder.path() +
                          "; setpriv --reuid 4321 --regid 4321 --clear-groups " + KESTRUM_PROGRAM +
                          " " + words,
                      desk.environment);
  };
  Ran ran = as_user("job new desk --from " + desk.source() + " --to " + desk.disk() +
                    " --same-disk --protection none");
  if (ran.exit == 126 || ran.exit == 127) GTEST_SKIP() << "the program cannot be reached by others";
  ASSERT_EQ(ran.exit, 0) << ran.err;
  ASSERT_EQ(as_user("run desk").exit, 0);
  ::chmod((desk.source() + "/secret.txt").c_str(), 0000);
  fs::last_write_time(desk.source() + "/secret.txt", fs::file_time_type::clock::now());
  ::chmod((desk.source() + "/closed").c_str(), 0000);
  ran = as_user("run desk --json");
  EXPECT_EQ(ran.exit, 1);
  Json report = Json::parse(ran.out)["runs"][0];
  EXPECT_EQ(report["files"]["failed"], 1);
  EXPECT_EQ(report["files"]["absent"], 1);
  EXPECT_EQ(report["files"]["gone"], 0);
  std::set<std::string> named;
  for (const Json& warning : report["warnings"]) named.insert(warning["path"]);
  EXPECT_TRUE(named.contains(desk.source() + "/secret.txt"));
  EXPECT_TRUE(named.contains(desk.source() + "/closed"));
  ran = as_user("restore desk --to " + (desk.folder / "out"));
  EXPECT_EQ(ran.exit, 0) << ran.err;
  EXPECT_EQ(read_file(desk.folder / "out/secret.txt"), "was readable");
  EXPECT_EQ(read_file(desk.folder / "out/closed/inside.txt"), "inside");
}

TEST(WhatIsMounted, IsAbsentWhenUnmountedAndNeverCrossedUnasked) {
  Desk desk;
  std::string mount_point = desk.source() + "/share";
  fs::create_directory(mount_point);
  if (::geteuid() != 0 || ::mount("tmpfs", mount_point.c_str(), "tmpfs", 0, "size=1m") != 0) {
    GTEST_SKIP() << "needs root and a mount";
  }
  for (int i = 0; i < 50; ++i) put_file(mount_point + "/file" + std::to_string(i), "on the share");
  put_file(desk.source() + "/local", "local");
  desk.define({"--protection", "none"});
  EXPECT_EQ(desk.json({"run", "desk"})["runs"][0]["files"]["seen"], 1);
  std::string file = desk.folder / "home/jobs/desk.toml";
  std::string text = read_file(file);
  text.replace(text.find("[source]"), 8, "[source]\nother_filesystems = true");
  write_file(file, text);
  EXPECT_EQ(desk.json({"run", "desk"})["runs"][0]["files"]["seen"], 51);
  ::umount(mount_point.c_str());
  Json report = desk.json({"run", "desk"}, 1)["runs"][0];
  EXPECT_EQ(report["files"]["absent"], 50);
  EXPECT_EQ(report["files"]["gone"], 0);
  // And again: what is not there now is still known to have been a disk.
  EXPECT_EQ(desk.json({"run", "desk"}, 1)["runs"][0]["files"]["absent"], 50);
  Json restored = desk.json({"restore", "desk", "--to", desk.folder / "out"});
  EXPECT_EQ(read_file(desk.folder / "out/share/file7"), "on the share");
}

TEST(WhatIsMounted, AsASourceItselfIsNeverTakenForEmpty) {
  Desk desk;
  if (::geteuid() != 0 || ::mount("tmpfs", desk.source().c_str(), "tmpfs", 0, "size=1m") != 0) {
    GTEST_SKIP() << "needs root and a mount";
  }
  for (int i = 0; i < 20; ++i) put_file(desk.source() + "/file" + std::to_string(i), "x");
  desk.define({"--protection", "none", "--new-full", "after 1 incremental"});
  desk.json({"run", "desk"});
  desk.json({"run", "desk"});
  ::umount(desk.source().c_str());
  // A full set is due, but it would start a chain without these files: it waits.
  Json report = desk.json({"run", "desk"}, 1)["runs"][0];
  EXPECT_EQ(report["kind"], "incremental");
  EXPECT_EQ(report["files"]["absent"], 20);
  EXPECT_EQ(report["files"]["gone"], 0);
}

TEST_F(WhatHappened, ChangedRulesLeaveOutAndNeverDelete) {
  std::string file = desk.folder / "home/jobs/desk.toml";
  std::string text = read_file(file);
  text.replace(text.find("[source]"), 8, "[source]\nleave_out = [\"docs\"]");
  write_file(file, text);
  Json report = run();
  expect_files(report, {{"seen", 1}, {"gone", 0}, {"left_out", 2}});
  EXPECT_EQ(held(), std::set<std::string>{"/mail/inbox"});
  EXPECT_EQ(
      desk.json({"look", "desk", desk.source() + "/docs", "--point", "c1-0"})["entries"].size(),
      2U);
}

TEST_F(WhatHappened, LitterIsLeftOutUnlessTheJobSaysOtherwise) {
  put_file(desk.source() + "/.cache/thing", "x");
  put_file(desk.source() + "/letter.odt~", "x");
  put_file(desk.source() + "/build/CACHEDIR.TAG", "Signature: 8a477f597d28d172789f06886806bc55\n");
  put_file(desk.source() + "/build/object", "x");
  Json report = run();
  expect_files(report, {{"seen", 3}, {"copied", 0}});
  EXPECT_EQ(held(), all);
}

TEST_F(WhatHappened, AChangeInTheSameInstantIsFoundByTheNextRun) {
  std::string path = desk.source() + "/docs/one.txt";
  struct stat st {};
  ::stat(path.c_str(), &st);
  put_file(path, "ONE");  // the same size
  timespec times[2] = {st.st_atim, st.st_mtim};
  ::utimensat(AT_FDCWD, path.c_str(), times, 0);
  expect_files(run(), {{"copied", 1}});
}

TEST_F(WhatHappened, TheShelfAndTheStateAreNeverCopied) {
  std::string file = desk.folder / "home/jobs/desk.toml";
  std::string text = read_file(file);
  text.replace(text.find(desk.source()), desk.source().size(), desk.folder.path());
  write_file(file, text);
  run();
  Json entries = desk.json({"look", "desk", desk.folder.path(), "--depth", "9"})["entries"];
  for (const Json& entry : entries) {
    std::string path = entry["path"];
    EXPECT_EQ(path.find("/home/state/"), std::string::npos) << path;
    EXPECT_EQ(path.find(desk.shelf()), std::string::npos) << path;
  }
  EXPECT_GT(entries.size(), 5U);
}

TEST_F(WhatHappened, AFileThatGrowsAllTheTimeIsStoredAndNamed) {
  std::string path = desk.source() + "/growing.log";
  put_file(path, noise(20'000'000, 3));
  pid_t writer = ::fork();
  if (writer == 0) {
    for (;;) {
      int fd = ::open(path.c_str(), O_WRONLY | O_APPEND);
      if (::write(fd, "line\n", 5) < 0) ::_exit(1);
      ::close(fd);
    }
  }
  Ran ran = desk.kestrum({"run", "desk", "--json"});
  ::kill(writer, SIGKILL);
  int status = 0;
  ::waitpid(writer, &status, 0);
  // Where the writer got no turn while the end was read, it held still, and nothing is said.
  ASSERT_TRUE(ran.exit == 0 || ran.exit == 1) << ran.out;
  EXPECT_EQ(ran.out.find("changed while it was read") != std::string::npos, ran.exit == 1);
  Json verified = desk.json({"verify", "desk", "--contents"});
  EXPECT_TRUE(verified["damage"].empty());
  EXPECT_EQ(desk.kestrum({"restore", "desk", "growing.log", "--to", desk.folder / "out"}).exit, 0);
  std::string restored = read_file(desk.folder / "out/growing.log");
  EXPECT_TRUE(restored.starts_with(noise(20'000'000, 3)));
}

}  // namespace
}  // namespace kestrum::test
