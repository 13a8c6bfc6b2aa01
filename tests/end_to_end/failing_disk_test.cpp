// Disks as desks have them, of every usual filesystem, that fill up, die, turn read-only or are
// pulled out in the middle of a run: earlier sets stay whole and the next run goes on.
#include <gtest/gtest.h>
#include <unistd.h>

#include <filesystem>
#include <functional>
#include <optional>

#include "kestrum/base/file.h"
#include "kestrum/job/edit_key.h"
#include "support/cut_run.h"
#include "support/program.h"
#include "support/small_disk.h"
#include "support/tree.h"

namespace kestrum::test {
namespace {

namespace fs = std::filesystem;

class FailingDisk : public testing::Test {
 protected:
  // A job on a disk of this kind with a first set; false where there is no such disk.
  bool start(DiskKind kind, unsigned megabytes, const std::string& protection = "none") {
    disk.emplace(desk.folder, desk.disk(), megabytes, kind);
    if (!disk->mounted()) return false;
    put_file(desk.source() + "/rota.csv", "week 1\n");
    put_file(desk.source() + "/odd: name?", "no such name on some of these disks\n");
    fs::create_symlink("rota.csv", desk.source() + "/latest");
    desk.define({"--part-size", "1 MB", "--protection", protection});
    EXPECT_EQ(desk.kestrum({"run", "desk"}).exit, 0);
    return true;
  }
  void put_takes(int count) {
    for (int i = 0; i < count; ++i) {
      put_file(desk.source() + "/take-" + std::to_string(i) + ".wav",
               noise(500'000, 100 + static_cast<unsigned>(i)));
    }
  }
  Json history() { return desk.json({"history", "desk"})["runs"][0]; }
  Json run(int exit) { return desk.json({"run", "desk"}, exit)["runs"][0]; }
  void set_key(const std::string& key, const std::string& value) {
    std::string path = desk.folder / "home/jobs/desk.toml";
    write_file(path, edit_key(read_file(path), key, value));
  }
  // Starts a slow run and does something once five parts are kept.
  Ran run_and_then(const std::function<void()>& what) {
    return run_until(
        desk, "5 MB/s", [&] { return parts_kept(desk) >= 5; }, [&](const Background&) { what(); });
  }
  void expect_whole(std::size_t sets) {
    Json found = desk.json({"verify", "desk", "--contents"});
    EXPECT_EQ(found["restorable"].size(), sets) << found;
  }
  // The next run goes on with what was kept, and everything comes back.
  void expect_goes_on(std::uint64_t less_than) {
    Json report = run(0);
    EXPECT_EQ(report["continued"], true) << report;
    EXPECT_LT(report["bytes"]["copied"], less_than) << report;
    expect_whole(2);
    std::string back = desk.folder / "back";
    EXPECT_EQ(desk.kestrum({"restore", "desk", "--to", back, "--layout", "full"}).exit, 0);
    EXPECT_EQ(difference(tree_of(desk.source()), tree_of(back + desk.source())), "");
  }
  Desk desk;
  std::optional<SmallDisk> disk;
};

class EveryDisk : public FailingDisk, public testing::WithParamInterface<DiskKind> {};

TEST_P(EveryDisk, HoldsAShelf) {
  if (!start(GetParam(), 64, "passphrase")) GTEST_SKIP() << disk->why_not();
  put_takes(6);
  EXPECT_EQ(run(0)["kind"], "incremental");
  expect_whole(2);
  // The disk itself takes what is restored, as far as it can.
  Ran ran = desk.kestrum({"restore", "desk", "*.wav", "*.csv", "--to", desk.disk() + "/out"});
  EXPECT_EQ(ran.exit, 0) << ran.out << ran.err;
  EXPECT_EQ(read_file(desk.disk() + "/out/take-5.wav"), noise(500'000, 105));
}

TEST_P(EveryDisk, ThatIsFullHarmsNothing) {
  if (!start(GetParam(), 48)) GTEST_SKIP() << disk->why_not();
  put_takes(40);
  // Another program takes the room while the run is on.
  std::string other = desk.disk() + "/other-program";
  Ran ran = run_and_then([&] {
    run_program({"sh", "-c", "cat /dev/zero >" + shell_quoted(other) + " 2>/dev/null"});
  });
  EXPECT_EQ(ran.exit, 6) << ran.out << ran.err;
  EXPECT_NE(ran.err.find("short"), std::string::npos) << ran.err;
  EXPECT_NE(ran.out.find("the next run goes on"), std::string::npos) << ran.out;
  expect_whole(1);
  fs::remove(other);
  expect_goes_on(37 * 500'000);
}

INSTANTIATE_TEST_SUITE_P(Kinds, EveryDisk,
                         testing::Values(DiskKind::kExt4, DiskKind::kTmpfs, DiskKind::kFat,
                                         DiskKind::kExfat),
                         [](const auto& kind) { return name_of(kind.param); });

TEST_F(FailingDisk, ThatIsPulledOutIsNamed) {
  if (!start(DiskKind::kExfat, 64)) GTEST_SKIP() << disk->why_not();
  put_takes(40);
  Ran ran = run_and_then([&] { disk->pull(); });
  EXPECT_EQ(ran.exit, 5) << ran.out << ran.err;
  EXPECT_NE(ran.err.find("was pulled out or went away"), std::string::npos) << ran.out << ran.err;
  EXPECT_EQ(run(5)["exit"], 5) << "and still";
  EXPECT_EQ(desk.kestrum({"verify", "desk"}).exit, 5) << "nothing is called damaged";
  ASSERT_TRUE(disk->plug_in_again()) << disk->why_not();
  expect_whole(1);
  expect_goes_on(39 * 500'000);
}

TEST_F(FailingDisk, ThatIsPulledOutWhileItIsReadIsNotCalledDamaged) {
  if (!start(DiskKind::kExfat, 64)) GTEST_SKIP() << disk->why_not();
  put_takes(40);
  ASSERT_EQ(desk.kestrum({"run", "desk"}).exit, 0);
  int noticed = 0;
  for (unsigned delay = 10; delay <= 150; delay += 10) {  // milliseconds
    bool verify = delay % 20 == 0;
    Background running({KESTRUM_PROGRAM, verify ? "verify" : "restore", "desk",
                        verify ? "--contents" : "--to=" + desk.folder / "back"},
                       desk.environment);
    ::usleep(delay * 1000);
    disk->pull();
    Ran ran = running.wait();
    EXPECT_TRUE(ran.exit == 5 || ran.exit == 0) << ran.exit << ran.out << ran.err;
    EXPECT_EQ((ran.out + ran.err).find("amage"), std::string::npos) << ran.out << ran.err;
    noticed += ran.err.find("was pulled out or went away") != std::string::npos ? 1 : 0;
    ASSERT_TRUE(disk->plug_in_again());
    fs::remove_all(desk.folder / "back");
  }
  EXPECT_GE(noticed, 1);
  expect_whole(2);
}

TEST_F(FailingDisk, ThatTurnsReadOnlyIsNamed) {
  if (!start(DiskKind::kExt4, 64)) GTEST_SKIP() << disk->why_not();
  put_takes(40);
  Ran ran = run_and_then([&] { disk->turn_read_only(); });
  EXPECT_EQ(ran.exit, 5) << ran.out << ran.err;
  EXPECT_NE((ran.out + ran.err).find("cannot be written"), std::string::npos) << ran.out << ran.err;
  // What is there can still be read, and nothing new begun.
  expect_whole(1);
  EXPECT_EQ(run(5)["exit"], 5);
  ASSERT_TRUE(disk->plug_in_again()) << disk->why_not();
  expect_goes_on(39 * 500'000);
}

TEST_F(FailingDisk, ThatDiesIsNamed) {
  if (!start(DiskKind::kDying, 96)) GTEST_SKIP() << disk->why_not();
  put_takes(120);
  Json report = run(5);
  EXPECT_EQ(report["outcome"], "failed");
  EXPECT_NE(report["reason"].get<std::string>().find("Input/output error"), std::string::npos)
      << report;
  disk->heal();
  ASSERT_TRUE(disk->plug_in_again()) << disk->why_not();
  expect_whole(1);
  EXPECT_EQ(run(0)["outcome"], "done");
  expect_whole(2);
}

// What Kestrum remembers lies on a disk too.
TEST_F(FailingDisk, ThatIsThePcsOwnAndFullLosesNothing) {
  std::string home = desk.folder / "home";
  fs::create_directories(home);
  SmallDisk own(desk.folder, home, 12, DiskKind::kTmpfs);
  if (!own.mounted()) GTEST_SKIP() << own.why_not();
  put_file(desk.source() + "/rota.csv", "week 1\n");
  desk.define({"--protection", "none"});
  EXPECT_EQ(run(0)["set"], "c1-0");
  for (int i = 0; i < 4000; ++i) {
    put_file(desk.source() + "/" + std::string(120, 'n') + std::to_string(i), std::to_string(i));
  }
  std::string other = home + "/of-another-program";
  run_program({"sh", "-c", "cat /dev/zero >" + shell_quoted(other) + " 2>/dev/null"});
  Ran ran = desk.kestrum({"run", "desk"});
  EXPECT_EQ(ran.exit, 6) << ran.out << ran.err;
  EXPECT_NE(ran.err.find("free some room"), std::string::npos) << ran.err;
  // A little room: enough to begin, not for the index.
  fs::resize_file(other, fs::file_size(other) - 300'000);
  ran = desk.kestrum({"run", "desk"});
  EXPECT_EQ(ran.exit, 6) << ran.out << ran.err;
  EXPECT_NE(ran.err.find("own disk is full"), std::string::npos) << ran.err;
  expect_whole(1);
  fs::remove(other);
  EXPECT_EQ(run(0)["kind"], "incremental");
  expect_whole(2);
  EXPECT_EQ(desk.kestrum({"restore", "desk", "--to", desk.folder / "back"}).exit, 0);
  EXPECT_EQ(difference(tree_of(desk.source()), tree_of(desk.folder / "back")), "");
}

// A share that the folders to be copied lie on.
TEST_F(FailingDisk, ThatIsTheSourceMakesNothingGone) {
  std::string share = desk.folder / "share";
  fs::create_directory(share);
  SmallDisk source(desk.folder, share, 64, DiskKind::kExfat);
  if (!source.mounted()) GTEST_SKIP() << source.why_not();
  for (int i = 0; i < 30; ++i) {
    put_file(share + "/desk-" + std::to_string(i / 10) + "/take-" + std::to_string(i) + ".wav",
             noise(500'000, static_cast<unsigned>(i)));
  }
  ASSERT_EQ(desk.kestrum({"job", "new", "desk", "--from", share, "--to", desk.disk(), "--same-disk",
                          "--part-size", "1 MB"})
                .exit,
            0);
  set_key("report.suspect_above", "100%");
  ASSERT_EQ(run(0)["files"]["copied"], 30);
  // Everything changes a little, and the share goes while the second run reads it.
  for (int i = 0; i < 30; ++i) {
    put_file(share + "/desk-" + std::to_string(i / 10) + "/take-" + std::to_string(i) + ".wav",
             noise(500'001, 50 + static_cast<unsigned>(i)));
  }
  Ran ran = run_and_then([&] { source.pull(); });
  EXPECT_EQ(ran.exit, 1) << ran.out << ran.err;
  for (const std::string path : {"desk-0/take-0.wav", "desk-2/take-29.wav"}) {
    std::string to = desk.folder / ("back-" + base_name(path));
    EXPECT_EQ(desk.kestrum({"restore", "desk", share + "/" + path, "--to", to}).exit, 0);
    // What could be read is as it is now; what could not is as it was before.
    EXPECT_EQ(read_file(to + "/" + base_name(path)),
              path == "desk-0/take-0.wav" ? noise(500'001, 50) : noise(500'000, 29));
  }
  EXPECT_EQ(history()["files"]["gone"], 0);
  Json report = run(1);
  EXPECT_EQ(report["files"]["gone"], 0) << report;
  EXPECT_EQ(report["files"]["absent"], 30) << report;
  ASSERT_TRUE(source.plug_in_again()) << source.why_not();
  report = run(0);
  EXPECT_EQ(report["files"]["seen"], 30) << report;
  std::string back = desk.folder / "back";
  EXPECT_EQ(desk.kestrum({"restore", "desk", "--to", back, "--layout", "full"}).exit, 0);
  Ran differ = run_program({"diff", "-r", share, back + share});
  EXPECT_EQ(differ.exit, 0) << differ.out;
}

}  // namespace
}  // namespace kestrum::test
