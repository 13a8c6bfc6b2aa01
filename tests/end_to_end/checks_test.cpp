// Checks by themselves: verifies and drills by a schedule, in parts, straight after a run, giving
// way; and verifies of a sample, of all jobs, and against the files on the PC.
#include <gtest/gtest.h>
#include <sys/stat.h>

#include <filesystem>

#include "kestrum/base/file.h"
#include "kestrum/base/units.h"
#include "support/program.h"
#include "support/tree.h"

namespace kestrum::test {
namespace {

namespace fs = std::filesystem;

class Checks : public testing::Test {
 protected:
  void SetUp() override {
    desk.on_day(0);
    for (int i = 0; i < 12; ++i) {
      put_file(desk.source() + "/file-" + std::to_string(i),
               noise(40'000, static_cast<unsigned>(i)));
    }
  }
  void define(const std::vector<std::pair<std::string, std::string>>& checks,
              const std::vector<std::string>& more = {}) {
    std::vector<std::string> words = {"--protection", "none",   "--part-size",
                                      "100 kB",       "--when", "every day at 21:00"};
    words.insert(words.end(), more.begin(), more.end());
    desk.define(words);
    for (const auto& [key, value] : checks) {
      ASSERT_EQ(desk.kestrum({"job", "set", "desk", "checks." + key, value}).exit, 0) << key;
    }
  }
  void at(const std::string& time) { desk.environment["KESTRUM_NOW"] = time; }
  Ran due(int expected_exit = 0) {
    Ran ran = desk.kestrum({"run", "--due"});
    EXPECT_EQ(ran.exit, expected_exit) << ran.out << ran.err;
    return ran;
  }
  // What was done besides runs, in words.
  std::vector<std::string> done() {
    std::vector<std::string> all;
    Json told = desk.json({"history", "desk"});
    for (const Json& action : told["actions"]) {
      all.push_back(action["what"].get<std::string>() + ": " + action["detail"].get<std::string>());
    }
    return all;
  }
  void damage(const std::string& set, const std::string& file) {
    std::string path = desk.set_folder(set) + "/" + file, bytes = read_file(path);
    bytes[bytes.size() / 2] ^= 1;
    write_file(path, bytes);
  }
  // What this PC remembers of its one shelf.
  std::string pin() const {
    for (const auto& entry : fs::recursive_directory_iterator(desk.folder / "home/state")) {
      if (entry.path().filename() == "pin.json") return entry.path();
    }
    return "";
  }
  std::size_t parts_of(const std::string& set) const {
    std::size_t parts = 0;
    for (const std::string& name : list_folder(desk.set_folder(set))) {
      parts += name.starts_with("part-");
    }
    return parts;
  }
  Desk desk;
};

TEST_F(Checks, AreDoneWhenTheirTimeHasCome) {
  define({{"verify_when", "every sunday at 10:00"}});
  at("2026-03-02T21:00:00Z");  // a Monday
  due();
  EXPECT_EQ(done().size(), 0U);
  at("2026-03-08T10:01:00Z");
  EXPECT_NE(due().out.find("desk: verify: "), std::string::npos);
  ASSERT_EQ(done().size(), 1U);
  EXPECT_NE(done()[0].find("as the seals say"), std::string::npos) << done()[0];
  at("2026-03-08T11:00:00Z");
  due();
  EXPECT_EQ(done().size(), 1U);
  at("2026-03-15T12:00:00Z");
  due();
  EXPECT_EQ(done().size(), 2U);
}

TEST_F(Checks, AreOnTheAgenda) {
  define({{"verify_when", "every sunday at 10:00"}, {"drill_when", "monthly on day 1 at 12:00"}});
  at("2026-03-27T08:00:00Z");
  Json agenda = desk.json({"agenda", "--days", "7"});
  ASSERT_EQ(agenda["checks"].size(), 2U) << agenda.dump(2);
  EXPECT_EQ(agenda["checks"][0]["what"], "verify");
  EXPECT_EQ(agenda["checks"][0]["at"], "2026-03-29T10:00:00Z");
  EXPECT_EQ(agenda["checks"][1]["what"], "drill");
  std::string told = desk.kestrum({"agenda", "--days", "7"}).out;
  EXPECT_NE(told.find("7 runs, 2 checks until "), std::string::npos) << told;
}

TEST_F(Checks, ComeStraightAfterARunWhereTheNextRunWouldComeLater) {
  define({{"verify_when", "every sunday at 10:00"}});
  for (int day = 2; day <= 7; ++day) {
    at("2026-03-0" + std::to_string(day) + "T21:00:00Z");
    due();
    EXPECT_EQ(done().size(), day < 7 ? 0U : 1U) << day;  // on Saturday, while the disk is there
  }
  fs::rename(desk.disk(), desk.folder / "drawer");
  at("2026-03-08T10:01:00Z");
  due();
  fs::rename(desk.folder / "drawer", desk.disk());
  at("2026-03-08T11:00:00Z");
  due();
  EXPECT_EQ(done().size(), 1U);  // that one stood for it
  at("2026-03-14T21:00:00Z");
  due();
  EXPECT_EQ(done().size(), 2U);
}

TEST_F(Checks, WaitForTheirDisk) {
  define({{"verify_when", "every sunday at 10:00"}}, {"--when", "every friday at 21:00"});
  at("2026-03-06T21:00:00Z");
  due();
  fs::rename(desk.disk(), desk.folder / "drawer");
  at("2026-03-08T10:01:00Z");
  due();
  at("2026-03-09T10:01:00Z");
  due();
  EXPECT_EQ(done().size(), 0U);
  fs::rename(desk.folder / "drawer", desk.disk());
  at("2026-03-09T12:01:00Z");
  due();
  EXPECT_EQ(done().size(), 1U);
}

TEST_F(Checks, ReadAllOfTheShelfInParts) {
  define({{"verify_when", "every hour at :30"}, {"each_time", "30%"}});
  at("2026-03-02T21:00:00Z");
  due();
  int times = 0;
  for (int hour = 22; hour < 28; ++hour) {
    at(format_rfc3339(*parse_rfc3339("2026-03-02T00:31:00Z") + hour * kHour));
    due();
    ++times;
    Json record = Json::parse(read_file(pin()));
    if (record["verified"]["when"].get<std::int64_t>() != 0) break;
    EXPECT_FALSE(record["verify_round"].is_null());
  }
  EXPECT_GE(times, 2);
  EXPECT_LE(times, 4);
  Json record = Json::parse(read_file(pin()));
  EXPECT_TRUE(record["verify_round"].is_null());
  EXPECT_EQ(record["verified"]["parts"], parts_of("c1-0"));
}

TEST_F(Checks, InPartsFindEveryDamageAndForgetNone) {
  define({{"verify_when", "every hour at :30"}, {"each_time", "20%"}});
  at("2026-03-02T21:00:00Z");
  due();
  damage("c1-0", "part-000002.tar.zst");
  damage("c1-0", "part-000004.tar.zst");
  int found = 0;
  for (int hour = 22; hour < 29; ++hour) {
    at(format_rfc3339(*parse_rfc3339("2026-03-02T00:31:00Z") + hour * kHour));
    found += desk.kestrum({"run", "--due"}).exit == 4;
  }
  EXPECT_GE(found, 1);
  Json status = desk.json({"status", "desk"})["jobs"][0];
  EXPECT_EQ(status["state"], "trouble");
  EXPECT_EQ(status["damage"].size(), 2U) << status.dump(2);
}

TEST_F(Checks, DrillByThemselves) {
  define({{"drill_when", "every sunday at 10:00"}, {"nag_drill", "30 days"}});
  at("2026-03-02T21:00:00Z");
  due();
  at("2026-03-08T10:01:00Z");
  EXPECT_NE(due().out.find("all came back right"), std::string::npos);
  EXPECT_EQ(desk.json({"status", "desk"})["jobs"][0]["last_drill"]["mismatches"], 0);
}

TEST_F(Checks, ThatNobodyDoesAreToBeHeeded) {
  define({{"nag_verify", "60 days"}, {"nag_drill", "40 days"}});
  at("2026-03-02T21:00:00Z");
  due();
  EXPECT_EQ(desk.json({"status"})["jobs"][0]["state"], "fine");
  auto why = [&](const std::string& time) {
    at(time);
    desk.kestrum({"run", "desk"});
    return desk.json({"status"})["jobs"][0]["why"].dump();
  };
  EXPECT_NE(why("2026-04-20T21:00:00Z").find("no restore was tried for 50 days"),
            std::string::npos);
  EXPECT_NE(why("2026-05-20T21:00:00Z").find("nothing was verified for"), std::string::npos);
  EXPECT_EQ(desk.kestrum({"verify", "desk"}).exit, 0);
  EXPECT_EQ(why("2026-05-21T21:00:00Z").find("nothing was verified"), std::string::npos);
}

TEST_F(Checks, ADiskThatIsNotSeenForLongerThanExpectedIsTold) {
  define({});
  ASSERT_EQ(desk.kestrum({"job", "set", "desk", "rotation.expect", "every 7 days"}).exit, 0);
  at("2026-03-02T21:00:00Z");
  due();
  fs::rename(desk.disk(), desk.folder / "drawer");
  auto seen = [&](const std::string& time) {
    at(time);
    Json job = desk.json({"status"})["jobs"][0];
    return job["state"].get<std::string>() + job["why"].dump();
  };
  EXPECT_EQ(seen("2026-03-08T21:00:00Z").find("was not seen"), std::string::npos);
  EXPECT_NE(seen("2026-03-10T21:00:00Z")
                .find("disk was not seen for 8 days, where every 7 days is expected"),
            std::string::npos);
  EXPECT_TRUE(seen("2026-03-17T21:00:00Z").starts_with("trouble"));
  EXPECT_EQ(desk.kestrum({"job", "set", "desk", "rotation.expect", "now and then"}).exit, 2);
}

TEST_F(Checks, OfASampleReadThatMuch) {
  define({});
  ASSERT_EQ(desk.kestrum({"run", "desk"}).exit, 0);
  Json told = desk.json({"verify", "desk", "--sample", "25%"});
  std::uint64_t stored = desk.json({"status", "desk"})["jobs"][0]["stored_bytes"];
  EXPECT_GE(told["checked"]["bytes"].get<std::uint64_t>(), stored / 5);
  EXPECT_LE(told["checked"]["bytes"].get<std::uint64_t>(), stored / 2);
  damage("c1-0", "part-000003.tar.zst");
  told = desk.json({"verify", "desk", "--sample", "100"}, 4);
  EXPECT_EQ(told["damage"][0]["file"], "part-000003.tar.zst");
  for (const char* wrong : {"0%", "101%", "some", "-5"}) {
    EXPECT_EQ(desk.kestrum({"verify", "desk", "--sample", wrong}).exit, 2) << wrong;
  }
}

TEST_F(Checks, AgainstTheSourceTellWhatChangedFromWhatIsWrong) {
  define({});
  ASSERT_EQ(desk.kestrum({"run", "desk"}).exit, 0);
  put_file(desk.source() + "/file-0", "changed");
  fs::remove(desk.source() + "/file-1");
  Json told = desk.json({"verify", "desk", "--against-source"});
  EXPECT_EQ(told["same"], 10);
  EXPECT_EQ(told["changed"][0]["path"], desk.source() + "/file-0");
  EXPECT_EQ(told["gone"][0]["path"], desk.source() + "/file-1");
  EXPECT_EQ(told["wrong"], Json::array());
}

// A disk that gives back other bytes than were written to it changes no time: here the filesystem's
// own bytes are changed below a mount.
TEST_F(Checks, AgainstTheSourceFindAFileThatRotted) {
  if (::geteuid() != 0) GTEST_SKIP() << "mounting needs root";
  std::string image = desk.folder / "image", mount = desk.folder / "mnt";
  fs::create_directories(mount);
  auto script = [&](const std::string& text) { return run_script(text).exit == 0; };
  if (!script("truncate -s 16M " + image + " && mkfs.ext4 -q -F " + image + " && mount -o loop " +
              image + " " + mount)) {
    GTEST_SKIP() << "no loop devices here";
  }
  put_file(mount + "/song", std::string(50'000, 's') + "UNMISTAKABLE" + std::string(50'000, 's'));
  put_file(mount + "/other", "other");
  // What changed just now might change again without its times telling: so it is of last year.
  script("umount " + mount +
         "; for t in mtime ctime; do debugfs -w -R \"set_inode_field song $t "
         "20250101120000\" " +
         image + "; done; mount -o loop " + image + " " + mount);
  bool defined = desk.kestrum({"job", "new", "rot", "--from", mount, "--to", desk.disk(),
                               "--same-disk", "--protection", "none"})
                     .exit == 0;
  int ran = desk.kestrum({"run", "rot"}).exit;
  bool rotted = script("umount " + mount + " && perl -pi -e 's/UNMISTAKABLE/UNMISTAXABLE/' " +
                       image + " && mount -o loop " + image + " " + mount);
  Json told = rotted ? desk.json({"verify", "rot", "--against-source"}, 4) : Json();
  script("umount " + mount);
  ASSERT_TRUE(defined && rotted);
  EXPECT_LE(ran, 1);
  ASSERT_EQ(told["wrong"].size(), 1U) << told.dump(2);
  EXPECT_EQ(told["wrong"][0]["path"], mount + "/song");
}

TEST_F(Checks, OfAllJobsAnswerForEach) {
  define({});
  ASSERT_EQ(desk.kestrum({"run", "desk"}).exit, 0);
  ASSERT_EQ(desk.kestrum({"job", "copy", "desk", "other"}).exit, 0);  // has no shelf yet
  Json told = desk.json({"verify", "--all"}, 5);
  ASSERT_EQ(told["jobs"].size(), 2U);
  EXPECT_EQ(told["jobs"][0]["job"], "desk");
  EXPECT_EQ(told["jobs"][0]["damage"], Json::array());
  EXPECT_EQ(told["jobs"][1]["error"]["exit"], 5);
  ASSERT_EQ(desk.kestrum({"shelf", "start", "other", "--same-disk"}).exit, 0);
  ASSERT_EQ(desk.kestrum({"run", "other"}).exit, 0);
  EXPECT_EQ(desk.json({"verify", "--all"})["jobs"].size(), 2U);
  EXPECT_EQ(desk.json({"drill", "--all"})["jobs"][1]["job"], "other");
  EXPECT_EQ(desk.kestrum({"verify", "--all", "desk"}).exit, 2);
}

}  // namespace
}  // namespace kestrum::test
