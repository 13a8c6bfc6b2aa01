// What goes wrong, through the built program: each with its message, its exit code, and nothing
// written that should not be.
#include <gtest/gtest.h>
#include <sys/stat.h>
#include <unistd.h>

#include <algorithm>
#include <csignal>
#include <filesystem>

#include "kestrum/base/file.h"
#include "support/program.h"

namespace kestrum::test {
namespace {

namespace fs = std::filesystem;

bool has(const std::string& text, const std::string& part) {
  return text.find(part) != std::string::npos;
}

class Errors : public testing::Test {
 protected:
  void SetUp() override { put_file(desk.source() + "/rota.csv", "monday,presenter\n"); }
  Desk desk;
};

TEST_F(Errors, AWrongPassphraseWritesNothing) {
  desk.define();
  ASSERT_EQ(desk.kestrum({"run", "desk"}).exit, 0);
  desk.environment["KESTRUM_PASSPHRASE"] = "not it";
  Ran ran = desk.kestrum({"restore", "desk", "--to", desk.folder / "out"});
  EXPECT_EQ(ran.exit, 7);
  EXPECT_TRUE(has(ran.err, "passphrase of desk is wrong")) << ran.err;
  EXPECT_FALSE(path_exists(desk.folder / "out"));
  desk.environment["KESTRUM_PASSPHRASE"] = "";
  EXPECT_EQ(desk.kestrum({"restore", "desk", "--to", desk.folder / "out"}).exit, 7);
  EXPECT_EQ(desk.kestrum({"run", "desk"}).exit, 0) << "a run needs no passphrase";
  EXPECT_EQ(desk.kestrum({"verify", "desk"}).exit, 0) << "nor does verify";
}

TEST_F(Errors, APassphraseFileThatOthersCanReadIsRefused) {
  desk.define();
  desk.kestrum({"run", "desk"});
  desk.environment["KESTRUM_PASSPHRASE"] = "";
  put_file(desk.folder / "pass", "salt and sand\n", 0644);
  Ran ran = desk.kestrum(
      {"restore", "desk", "--to", desk.folder / "out", "--passphrase-from", desk.folder / "pass"});
  EXPECT_EQ(ran.exit, 7);
  EXPECT_TRUE(has(ran.err, "others can read")) << ran.err;
  ::chmod((desk.folder / "pass").c_str(), 0600);
  EXPECT_EQ(desk.kestrum({"restore", "desk", "--to", desk.folder / "out", "--passphrase-from",
                          desk.folder / "pass"})
                .exit,
            0);
}

TEST_F(Errors, TheSupportDesksOwnKeyOpensTheShelf) {
  std::string key = run_script("age-keygen 2>/dev/null").out;
  put_file(desk.folder / "desk.key", key, 0600);
  std::size_t at = key.find("age1");
  desk.define({"--also-for", key.substr(at, key.find('\n', at) - at)});
  ASSERT_EQ(desk.kestrum({"run", "desk"}).exit, 0);
  desk.environment["KESTRUM_PASSPHRASE"] = "";
  Ran ran = desk.kestrum({"restore", "--shelf", desk.shelf(), "--to", desk.folder / "out",
                          "--key-file", desk.folder / "desk.key"});
  EXPECT_EQ(ran.exit, 0) << ran.err;
  EXPECT_EQ(read_file(desk.folder / "out/rota.csv"), "monday,presenter\n");
  put_file(desk.folder / "other.key", run_script("age-keygen 2>/dev/null").out, 0600);
  EXPECT_EQ(
      desk.kestrum({"verify", "desk", "--contents", "--key-file", desk.folder / "other.key"}).exit,
      7);
}

TEST_F(Errors, APassphraseIsTypedTwiceOnATerminal) {
  desk.environment["KESTRUM_PASSPHRASE"] = "";
  std::string words = "exec " KESTRUM_PROGRAM " job new desk --same-disk --from " + desk.source() +
                      " --to " + desk.disk();
  Ran ran = run_on_terminal(words, "typed words", desk.environment);
  EXPECT_EQ(ran.exit, 0) << ran.out;
  EXPECT_FALSE(has(ran.out, "typed words")) << "it was echoed: " << ran.out;
  desk.environment["KESTRUM_PASSPHRASE"] = "typed words";
  ASSERT_EQ(desk.kestrum({"run", "desk"}).exit, 0);
  EXPECT_EQ(desk.kestrum({"restore", "desk", "--to", desk.folder / "out"}).exit, 0);
}

TEST_F(Errors, AnUnknownJobNamesTheNearest) {
  desk.define({"--protection", "none"});
  Ran ran = desk.kestrum({"run", "dsek"});
  EXPECT_EQ(ran.exit, 2);
  EXPECT_TRUE(has(ran.err, "no job named dsek") && has(ran.err, "did you mean desk?")) << ran.err;
  Json json = desk.json({"run", "dsek"}, 2);
  EXPECT_EQ(json["error"]["exit"], 2);
  EXPECT_EQ(json["error"]["job"], "dsek");
}

TEST_F(Errors, AMistypedCommandOrOptionNamesTheNearest) {
  EXPECT_TRUE(has(desk.kestrum({"resotre"}).err, "kestrum restore"));
  EXPECT_TRUE(has(desk.kestrum({"backup"}).err, "kestrum run"));
  EXPECT_TRUE(has(desk.kestrum({"list"}).err, "kestrum job list"));
  Ran ran = desk.kestrum({"restore", "desk", "--layuot", "flat"});
  EXPECT_EQ(ran.exit, 2);
  EXPECT_TRUE(has(ran.err, "--layout")) << ran.err;
  EXPECT_EQ(desk.kestrum({}).exit, 0);
  EXPECT_TRUE(has(desk.kestrum({"help", "run"}).out, "Examples:"));
  EXPECT_TRUE(has(desk.kestrum({"run", "--help"}).out, "--kind"));
}

TEST_F(Errors, BadTomlIsNamedByLineAndKey) {
  desk.define({"--protection", "none"});
  std::string file = desk.folder / "home/jobs/desk.toml", good = read_file(file);
  auto with = [&](const std::string& more) {
    write_file(file, good + more);
    return desk.kestrum({"run", "desk"});
  };
  Ran ran = with("\n[keep]\nfor = \"some days\"\n");
  EXPECT_EQ(ran.exit, 2);
  EXPECT_TRUE(has(ran.err, "keep.for") && has(ran.err, "line ")) << ran.err;
  ran = with("\n[compression]\nlevel = 3\n");
  EXPECT_TRUE(has(ran.err, "compression.level")) << ran.err;
  ran = with("\n[keep\n");
  EXPECT_EQ(ran.exit, 2);
  EXPECT_TRUE(has(ran.err, "line ")) << ran.err;
  ran = with("\n[keep]\nfro = \"14 days\"\n");
  EXPECT_EQ(ran.exit, 1) << "an unknown key is a warning for a run";
  EXPECT_TRUE(has(ran.out, "keep.fro") && has(ran.out, "keep.for?")) << ran.out;
  EXPECT_EQ(desk.kestrum({"job", "check", "desk"}).exit, 2) << "and an error for job check";
}

TEST_F(Errors, AKeyThatNothingActsOnIsNotAcceptedInSilence) {
  desk.define({"--protection", "none"});
  std::string file = desk.folder / "home/jobs/desk.toml", good = read_file(file);
  const std::string when = "\n[copies]\nwhen = [\"every sunday at 10:00\"]\n";
  write_file(file, good + when);
  Json check = desk.json({"job", "check", "desk"}, 2)["jobs"][0];
  EXPECT_TRUE(has(check["problems"].dump(), "nothing acts on this key: copies.to names no place"))
      << check;
  for (int time = 0; time < 2; ++time) {
    Json run = desk.json({"run", "desk"}, 1)["runs"][0];
    EXPECT_EQ(run["outcome"], "done with warnings");
    EXPECT_TRUE(has(run["warnings"].dump(), "nothing acts on this key")) << run;
  }
  write_file(file, good + when + "to = [\"/mnt/elsewhere\"]\n");
  EXPECT_EQ(desk.kestrum({"job", "check", "desk"}).exit, 0);
  write_file(file, good + "\n[copies]\nto = []\nwhen = []\n");
  EXPECT_EQ(desk.kestrum({"job", "check", "desk"}).exit, 0) << "it asks for nothing";
}

TEST_F(Errors, ADiskThatIsAwayAnotherAndANewOneAreToldApart) {
  // Never seen.
  ASSERT_EQ(desk.kestrum({"job", "new", "desk", "--from", desk.source(), "--to",
                          desk.folder / "usb", "--protection", "none"})
                .exit,
            0);
  Ran ran = desk.kestrum({"run", "desk"});
  EXPECT_EQ(ran.exit, 5);
  EXPECT_TRUE(has(ran.err, "not plugged in: usb (never seen yet)")) << ran.err;
  // There, but no shelf on it.
  fs::create_directory(desk.folder / "usb");
  ran = desk.kestrum({"run", "desk"});
  EXPECT_EQ(ran.exit, 5);
  EXPECT_TRUE(has(ran.err, "no shelf here yet: kestrum shelf start desk")) << ran.err;
  EXPECT_TRUE(fs::is_empty(desk.folder / "usb")) << "a run never makes a shelf";
  EXPECT_EQ(desk.kestrum({"shelf", "start", "desk"}).exit, 2) << "the same disk";
  ASSERT_EQ(desk.kestrum({"shelf", "start", "desk", "--same-disk"}).exit, 0);
  ASSERT_EQ(desk.kestrum({"run", "desk"}).exit, 0);
  // Pulled, leaving the empty mount point.
  fs::rename(desk.folder / "usb", desk.folder / "drawer");
  fs::create_directory(desk.folder / "usb");
  ran = desk.kestrum({"run", "desk"});
  EXPECT_EQ(ran.exit, 5);
  EXPECT_TRUE(has(ran.err, "not plugged in: usb (last seen ")) << ran.err;
  EXPECT_TRUE(fs::is_empty(desk.folder / "usb"));
  EXPECT_EQ(desk.kestrum({"look", "desk"}).exit, 0) << "what is on it is known all the same";
  // Somebody else's disk in its place.
  Desk other("studio-pc");
  put_file(other.source() + "/x", "x");
  ASSERT_EQ(other
                .kestrum({"job", "new", "studio", "--from", other.source(), "--to",
                          desk.folder / "usb", "--same-disk", "--protection", "none"})
                .exit,
            0);
  ran = desk.kestrum({"run", "desk"});
  EXPECT_EQ(ran.exit, 5);
  EXPECT_TRUE(has(ran.err, "another disk: " + (desk.folder / "usb") + " holds studio of studio-pc"))
      << ran.err;
  EXPECT_EQ(desk.json({"run", "desk"}, 5)["runs"][0]["exit"], 5);
  // And back again.
  fs::remove_all(desk.folder / "usb");
  fs::rename(desk.folder / "drawer", desk.folder / "usb");
  EXPECT_EQ(desk.kestrum({"run", "desk"}).exit, 0);
}

TEST_F(Errors, APlaceOnTheSameDiskIsRefusedBeforeAnythingIsWritten) {
  Ran ran = desk.kestrum({"job", "new", "desk", "--from", desk.source(), "--to", desk.disk()});
  EXPECT_EQ(ran.exit, 2);
  EXPECT_TRUE(has(ran.err, "same disk") && has(ran.err, "--same-disk")) << ran.err;
  EXPECT_TRUE(fs::is_empty(desk.disk()));
  EXPECT_FALSE(path_exists(desk.folder / "home/jobs/desk.toml"));
}

TEST_F(Errors, BadNamesOfJobsAreRefused) {
  const std::string kTooLong(65, 'a');
  for (const std::string& name :
       std::vector<std::string>{"", "-x", "a b", "a/b", "..", "x.", "con", "COM1.x", kTooLong}) {
    EXPECT_EQ(desk.kestrum({"job", "new", "--from", desk.source(), "--to", desk.disk(),
                            "--same-disk", "--protection", "none", "--", name})
                  .exit,
              2)
        << name;
  }
  desk.define({"--protection", "none"});
  EXPECT_EQ(desk.kestrum({"job", "new", "DESK", "--from", desk.source(), "--to", desk.disk()}).exit,
            2);
}

TEST_F(Errors, RestoreNeverGuessesWhereToWrite) {
  desk.define({"--protection", "none"});
  desk.kestrum({"run", "desk"});
  Ran ran = desk.kestrum({"restore", "desk", "rota.csv"});
  EXPECT_EQ(ran.exit, 2);
  EXPECT_TRUE(has(ran.err, "--to")) << ran.err;
}

TEST_F(Errors, NothingMatchedAndNoRestorePointExitWithNine) {
  desk.define({"--protection", "none"});
  EXPECT_EQ(desk.kestrum({"look", "desk"}).exit, 9) << "no run yet";
  desk.kestrum({"run", "desk"});
  EXPECT_EQ(desk.kestrum({"restore", "desk", "nothing.*", "--to", desk.folder / "out"}).exit, 9);
  EXPECT_FALSE(path_exists(desk.folder / "out"));
  EXPECT_EQ(desk.kestrum({"look", "desk", "--point", "1999-01-01"}).exit, 9);
  EXPECT_EQ(desk.kestrum({"look", "desk", "--point", "c9-9"}).exit, 9);
  EXPECT_EQ(desk.kestrum({"look", "desk", "--point", "whenever"}).exit, 2);
  fs::remove(desk.source() + "/rota.csv");
  put_file(desk.source() + "/other", "x");
  desk.kestrum({"run", "desk"});
  Ran ran =
      desk.kestrum({"restore", "desk", desk.source() + "/rota.csv", "--to", desk.folder / "out"});
  EXPECT_EQ(ran.exit, 9);
  EXPECT_TRUE(has(ran.err, "last seen") && has(ran.err, "--point last-seen")) << ran.err;
  ran = desk.kestrum({"restore", "desk", desk.source() + "/rota.csv", "--to", desk.folder / "out",
                      "--point", "last-seen"});
  EXPECT_EQ(ran.exit, 0) << ran.err;
  EXPECT_EQ(read_file(desk.folder / "out/rota.csv"), "monday,presenter\n");
}

TEST_F(Errors, TwoRunsOfOneJobCannotMeet) {
  for (int i = 0; i < 8; ++i)
    put_file(desk.source() + "/big" + std::to_string(i),
             noise(40'000'000, static_cast<unsigned>(i)));
  desk.define({"--level", "small"});
  Background first({KESTRUM_PROGRAM, "run", "desk"}, desk.environment);
  Ran second;
  for (int i = 0; i < 200; ++i) {
    ::usleep(10'000);
    if (!path_exists(desk.folder / "home/state/locks/desk")) continue;
    second = desk.kestrum({"run", "desk"});
    if (second.exit == 8) break;
  }
  EXPECT_EQ(first.wait().exit, 0);
  EXPECT_EQ(second.exit, 8);
  EXPECT_TRUE(has(second.err, "desk is busy") && has(second.err, "since")) << second.err;
}

TEST_F(Errors, AStoppedRunLeavesEverySetWholeAndTheNextRunWorks) {
  desk.define({"--protection", "none"});
  ASSERT_EQ(desk.kestrum({"run", "desk"}).exit, 0);
  for (int i = 0; i < 10; ++i)
    put_file(desk.source() + "/big" + std::to_string(i),
             noise(30'000'000, static_cast<unsigned>(i)));
  for (int signal : {SIGTERM, SIGKILL}) {
    Background run({KESTRUM_PROGRAM, "run", "desk", "--quiet"}, desk.environment);
    auto under_way = [&] {
      auto names = list_folder(desk.shelf() + "/sets");
      return std::any_of(names.begin(), names.end(),
                         [](const std::string& name) { return has(name, "unfinished"); });
    };
    for (int i = 0; i < 2000 && !under_way(); ++i) ::usleep(5'000);
    run.signal(signal);
    int exit = run.wait().exit;
    EXPECT_TRUE(signal == SIGKILL || exit == 130) << exit;
    Json verified = desk.json({"verify", "desk", "--contents"});
    EXPECT_TRUE(verified["damage"].empty());
  }
  Json report = desk.json({"run", "desk"})["runs"][0];
  EXPECT_EQ(report["files"]["seen"], 11);
  EXPECT_EQ(report["files"]["copied"], 10);
  EXPECT_EQ(desk.kestrum({"verify", "desk", "--contents"}).exit, 0);
  for (const auto& name : list_folder(desk.shelf() + "/sets"))
    EXPECT_FALSE(has(name, "unfinished")) << name;
}

TEST_F(Errors, ALostIndexMakesAFullSetOrIsRebuiltWithThePassphrase) {
  desk.define();
  desk.kestrum({"run", "desk"});
  desk.lose_index();
  Json report = desk.json({"run", "desk"})["runs"][0];  // the passphrase is in the environment
  EXPECT_EQ(report["set"], "c1-1");
  EXPECT_EQ(report["files"]["same"], 1);
  EXPECT_EQ(report["bytes"]["copied"], 0);
  desk.lose_index();
  desk.environment["KESTRUM_PASSPHRASE"] = "";
  Ran ran = desk.kestrum({"run", "desk"});
  EXPECT_EQ(ran.exit, 0);
  EXPECT_TRUE(has(ran.out, "c2-0 is a full set") && has(ran.err, "--passphrase-from"))
      << ran.out << ran.err;
}

TEST_F(Errors, TheClockOfAShelfIsKeptTo) {
  desk.define({"--protection", "none"});
  desk.environment["KESTRUM_NOW"] = "2026-03-02T21:00:00Z";
  EXPECT_EQ(desk.kestrum({"run", "desk"}).exit, 2);
  ASSERT_EQ(desk.kestrum({"job", "new", "replay", "--from", desk.source(), "--to", desk.disk(),
                          "--same-disk", "--protection", "none"})
                .exit,
            0);
  EXPECT_EQ(desk.kestrum({"run", "replay"}).exit, 0);
  EXPECT_EQ(desk.json({"sets", "replay"})["chains"][0]["sets"][0]["taken"], "2026-03-02T21:00:00Z");
  desk.environment["KESTRUM_NOW"] = "";
  EXPECT_EQ(desk.kestrum({"run", "replay"}).exit, 2);
}

// A whole system as the source, with the disk mounted below it.
TEST(RootOfTheFilesystem, CanBeASource) {
  // Where /tmp is a disk of its own, nothing below it is copied.
  std::string folders = std::getenv("TMPDIR") == nullptr ? "" : std::getenv("TMPDIR");
  ::setenv("TMPDIR", "/var/tmp", 1);
  Desk desk;
  folders.empty() ? ::unsetenv("TMPDIR") : ::setenv("TMPDIR", folders.c_str(), 1);
  put_file(desk.source() + "/rota.csv", "monday,presenter\n");
  std::string usb = desk.folder / "usb";
  fs::create_directory(usb);
  if (::geteuid() != 0 ||
      run_program({"mount", "-t", "tmpfs", "-o", "size=64m", "tmpfs", usb}).exit != 0) {
    GTEST_SKIP() << "needs root and a mount";
  }
  std::vector<std::string> words = {"job",  "new", "system",       "--from", "/",
                                    "--to", usb,   "--protection", "none"};
  for (fs::path at = desk.folder.path(); at != "/"; at = at.parent_path()) {
    for (const auto& name : list_folder(at.parent_path())) {
      if (name != at.filename())
        words.insert(words.end(), {"--leave-out", at.parent_path() / name});
    }
  }
  ASSERT_EQ(desk.kestrum(words).exit, 0);
  for (int run = 0; run < 2; ++run) {
    // 1 where files of other tests, which come meanwhile, changed while they were read.
    Ran ran = desk.kestrum({"run", "system"});
    EXPECT_LE(ran.exit, 1) << ran.out << ran.err;
    EXPECT_EQ((ran.out + ran.err).find(desk.folder.path() + "/source"), std::string::npos)
        << ran.out << ran.err;
  }
  EXPECT_EQ(
      desk.kestrum({"restore", "system", desk.source() + "/rota.csv", "--to", desk.folder / "out"})
          .exit,
      0);
  EXPECT_EQ(read_file(desk.folder / "out/rota.csv"), "monday,presenter\n");
  Json entries = desk.json({"look", "system", "/", "--depth", "20"})["entries"];
  for (const Json& entry : entries) {
    // Other tests make folders beside this one's all the time.
    std::string path = entry.value("path", "");
    EXPECT_FALSE(has(path, desk.folder.path()) && has(path, "/seal.json")) << path;
  }
  run_program({"umount", usb});
}

}  // namespace
}  // namespace kestrum::test
