// What starts `kestrum run --due`: systemd units, a line in the crontab, real cron.
#include <fcntl.h>
#include <gtest/gtest.h>
#include <sys/file.h>
#include <unistd.h>

#include <csignal>
#include <filesystem>

#include "kestrum/base/file.h"
#include "kestrum/system/due_caller.h"
#include "kestrum/system/system_timer.h"
#include "support/program.h"

namespace kestrum::test {
namespace {

TEST(SystemdUnits, SayWhatTheyShould) {
  TimerSetup setup{"/opt/my tools/kes%trum", "/home/front \"desk\"/$k", 10, true};
  std::string service = service_unit(setup);
  EXPECT_NE(service.find("ExecStart=\"/opt/my tools/kes%%trum\" run --due --quiet\n"),
            std::string::npos)
      << service;
  EXPECT_NE(service.find("Environment=\"KESTRUM_HOME=/home/front \\\"desk\\\"/$$k\"\n"),
            std::string::npos)
      << service;
  EXPECT_NE(service.find("SuccessExitStatus=1\n"), std::string::npos) << "warnings are no failure";
  EXPECT_NE(timer_unit(setup).find("Persistent=true\n"), std::string::npos);
  EXPECT_NE(timer_unit(setup).find("OnCalendar=*:0/10\n"), std::string::npos);
  EXPECT_EQ(service.find("Weight="), std::string::npos) << "a job of normal priority is there";
  setup.gives_way = true;
  EXPECT_NE(service_unit(setup).find("CPUWeight=10\nIOWeight=10\n"), std::string::npos);
  setup.stay = true;
  EXPECT_NE(service_unit(setup).find("Type=notify\n"), std::string::npos);
}

TEST(SystemdUnits, AreAcceptedBySystemd) {
  if (!have_program("systemd-analyze")) GTEST_SKIP() << "no systemd-analyze here";
  TempFolder folder;
  TimerSetup setup{KESTRUM_PROGRAM, "/tmp/home with blanks", 5, false, true};
  for (bool stay : {false, true}) {
    setup.stay = stay;
    put_file(folder / "kestrum.service", service_unit(setup));
    put_file(folder / "kestrum.timer", timer_unit(setup));
    Ran ran = run_program({"systemd-analyze", "verify", "--man=no", folder / "kestrum.service",
                           folder / "kestrum.timer"});
    EXPECT_EQ(ran.err.find("kestrum"), std::string::npos) << ran.err;
  }
}

TEST(SystemdUnits, AreWrittenEnabledAndRemoved) {
  Desk desk;
  // A stand-in that says what it is asked for.
  std::string asked = desk.folder / "asked";
  put_file(desk.folder / "bin/systemctl", "#!/bin/sh\necho \"$@\" >>'" + asked + "'\n", 0755);
  desk.environment["PATH"] = (desk.folder / "bin") + ":/usr/bin:/bin";
  desk.environment["XDG_CONFIG_HOME"] = desk.folder / "config";
  std::string units = desk.folder / "config/systemd/user";
  std::vector<std::string> how = {"--with", "systemd", "--user"};
  auto schedule = [&](const std::string& word) {
    std::vector<std::string> words = {"schedule", word};
    words.insert(words.end(), how.begin(), how.end());
    // Where no systemd runs, what is written does not work, and that is said.
    bool works = is_folder("/run/systemd/system");
    Json told = desk.json(words, word == "install" && !works ? 1 : 0);
    if (word == "install") {
      EXPECT_EQ(told["works"], works) << told;
    }
    return told;
  };
  EXPECT_EQ(schedule("show")["installed"], false);
  EXPECT_EQ(schedule("install")["installed"], true);
  EXPECT_NE(read_file(units + "/kestrum.service").find(desk.folder / "home"), std::string::npos);
  EXPECT_NE(read_file(asked).find("--user enable --now kestrum.timer"), std::string::npos)
      << read_file(asked);
  // A job that follows changes makes it a service that stays.
  desk.define({"--protection", "none", "--when", "when files change"});
  EXPECT_EQ(schedule("install")["files"].size(), 1u);
  EXPECT_NE(read_file(units + "/kestrum.service").find("--stay"), std::string::npos);
  EXPECT_NE(read_file(asked).find("--user enable --now kestrum.service"), std::string::npos);
  EXPECT_EQ(schedule("remove")["installed"], false);
  EXPECT_TRUE(list_folder(units).empty());
}

// The crontab of the user who runs the tests, given back as it was.
class Crontab : public testing::Test {
 protected:
  void SetUp() override {
    if (!have_program("crontab")) GTEST_SKIP() << "no crontab here";
    // The tests run side by side, and the user has one crontab.
    std::string lock = std::filesystem::temp_directory_path() / "kestrum-tests-crontab.lock";
    alone_ = Fd(::open(lock.c_str(), O_RDWR | O_CREAT | O_CLOEXEC, 0600));
    ASSERT_EQ(::flock(alone_.get(), LOCK_EX), 0);
    Ran ran = run_program({"crontab", "-l"});
    had_one_ = ran.exit == 0;
    before_ = ran.out;
    if (run_program({"crontab", "-"}, {}, before_ + "# of somebody else\n").exit != 0) {
      GTEST_SKIP() << "this user may have no crontab";
    }
    ready_ = true;
  }
  void TearDown() override {
    if (!ready_) return;
    if (had_one_) {
      run_program({"crontab", "-"}, {}, before_);
    } else {
      run_program({"crontab", "-r"});
    }
  }
  std::string now() { return run_program({"crontab", "-l"}).out; }
  bool had_one_ = false, ready_ = false;
  std::string before_;
  Fd alone_;
  Desk desk;
};

TEST_F(Crontab, HasOneLineOfOursHoweverOftenItIsInstalled) {
  for (const char* every : {"5", "10", "10"}) {
    EXPECT_LE(desk.kestrum({"schedule", "install", "--with", "cron", "--every", every}).exit, 1);
  }
  EXPECT_EQ(now(),
            before_ + "# of somebody else\n*/10 * * * * KESTRUM_HOME=" + (desk.folder / "home") +
                " " + KESTRUM_PROGRAM + " run --due --quiet >/dev/null # kestrum schedule of " +
                (desk.folder / "home") + "\n");
  EXPECT_NE(desk.kestrum({"schedule", "show", "--with", "cron"}).out.find("*/10"),
            std::string::npos);
  EXPECT_EQ(desk.kestrum({"schedule", "remove", "--with", "cron"}).exit, 0);
  EXPECT_EQ(now(), before_ + "# of somebody else\n");
  EXPECT_EQ(desk.kestrum({"schedule", "install", "--every", "99"}).exit, 2);
}

TEST_F(Crontab, RealCronRunsAJob) {
  if (::geteuid() != 0 || !have_program("cron")) GTEST_SKIP() << "needs root and cron";
  put_file(desk.source() + "/file.txt", "one");
  desk.define({"--protection", "none", "--when", "every 1 minute"});
  EXPECT_LE(desk.kestrum({"schedule", "install", "--with", "cron", "--every", "1"}).exit, 1);
  // Where cron runs already, this one ends by itself and that one does the work.
  Background cron({"cron", "-f"}, {});
  auto history = [&] { return desk.json({"history", "desk"})["runs"]; };
  ASSERT_TRUE(eventually([&] { return !history().empty(); }, 135)) << now() << cron.output();
  Json run = history()[0];
  EXPECT_EQ(run["set"], "c1-0");
  // Where cron was a minute late, the run stands for both times.
  EXPECT_EQ(desk.json({"schedule", "show", "--with", "cron"})["works"], true);
  EXPECT_EQ(desk.json({"status", "desk"})["jobs"][0]["state"], "fine");
  std::string trigger = run["trigger"];
  EXPECT_TRUE(trigger.starts_with("scheduled for") || trigger.starts_with("makes up for")) << run;
}

// Nothing runs by itself because a job file says so.
TEST_F(Crontab, StatusIsTroubleUnlessSomethingCallsWhatIsDue) {
  put_file(desk.source() + "/file.txt", "one");
  desk.define({"--protection", "none", "--when", "every day at 21:00"});
  ASSERT_EQ(desk.kestrum({"run", "desk"}).exit, 0);
  auto why = [&] {
    Json job = desk.json({"status", "desk"})["jobs"][0];
    EXPECT_EQ(desk.kestrum({"status", "--probe"}).exit, job["state"] == "trouble" ? 2 : 0);
    return job["state"] == "trouble" ? job["why"].dump() : job["state"].get<std::string>();
  };
  EXPECT_NE(why().find("nothing on this PC calls kestrum run --due: kestrum schedule install"),
            std::string::npos)
      << why();
  // A line whose program is gone.
  std::string program = desk.folder / "kestrum", home = desk.folder / "home";
  std::string line = "*/5 * * * * KESTRUM_HOME=" + home + " " + program + " run --due --quiet\n";
  ASSERT_EQ(run_program({"crontab", "-"}, {}, before_ + line).exit, 0);
  EXPECT_NE(why().find("which is not there"), std::string::npos) << why();
  EXPECT_EQ(desk.kestrum({"schedule", "show", "--with", "cron"}).exit, 1);
  std::filesystem::copy_file(KESTRUM_PROGRAM, program);
  bool cron_runs = run_program({"pgrep", "-x", "cron"}).exit == 0;
  if (!cron_runs) {
    EXPECT_NE(why().find("no cron daemon runs"), std::string::npos) << why();
    Ran installed = desk.kestrum({"schedule", "install", "--with", "cron"});
    EXPECT_EQ(installed.exit, 1);
    EXPECT_NE(installed.out.find("do not run by themselves yet"), std::string::npos);
  }
  if (::geteuid() != 0 || !have_program("cron")) return;
  Background cron({"cron", "-f"}, {});
  EXPECT_TRUE(eventually([&] {
    return desk.json({"status", "desk"})["jobs"][0]["state"] == "fine";
  })) << why();
  EXPECT_EQ(why(), "fine");
  ASSERT_EQ(run_program({"crontab", "-"}, {}, before_).exit, 0);
  EXPECT_NE(why().find("nothing on this PC calls"), std::string::npos) << "the line is gone again";
  // What is by hand, or paused, waits for nobody.
  EXPECT_EQ(desk.kestrum({"job", "pause", "desk"}).exit, 0);
  EXPECT_EQ(desk.json({"status", "desk"})["jobs"][0]["state"], "heed");
}

TEST(RunStay, IsWhatCallsToo) {
  Desk desk;
  put_file(desk.source() + "/file.txt", "one");
  desk.define({"--protection", "none", "--when", "when files change"});
  ASSERT_EQ(desk.kestrum({"run", "desk"}).exit, 0);
  auto state = [&] { return desk.json({"status", "desk"})["jobs"][0]["state"]; };
  EXPECT_EQ(state(), "trouble");
  {
    Background staying({KESTRUM_PROGRAM, "run", "--stay"}, desk.environment);
    EXPECT_TRUE(eventually([&] { return state() == "fine"; })) << staying.output();
    staying.signal(SIGTERM);
    staying.wait();
  }
  EXPECT_EQ(state(), "trouble") << "a lock that nobody holds says nothing";
}

TEST(CronCalls, AreFoundHoweverTheyAreWritten) {
  auto one = [](const std::string& line, bool system_wide = false) {
    auto calls = cron_calls({line}, system_wide);
    return calls.empty() ? "nothing" : calls[0].program + " of " + calls[0].home;
  };
  EXPECT_EQ(one("*/5 * * * * /usr/bin/kestrum run --due --quiet >/dev/null # kestrum schedule"),
            "/usr/bin/kestrum of ");
  EXPECT_EQ(one("@hourly kestrum --home '/srv/a b' run --due"), "kestrum of /srv/a b");
  EXPECT_EQ(one("*/5 * * * * root KESTRUM_HOME=/srv nice -n 5 /opt/k\\%/kestrum run --due", true),
            "/opt/k%/kestrum of /srv");
  EXPECT_EQ(one("# */5 * * * * /usr/bin/kestrum run --due"), "nothing");
  EXPECT_EQ(one("*/5 * * * * /usr/bin/kestrum run desk"), "nothing");
  EXPECT_EQ(one("*/5 * * * * echo kestrum run # --due"), "nothing");
  auto set_before = cron_calls({"KESTRUM_HOME=/srv", "1 * * * * kestrum run --due"}, false);
  ASSERT_EQ(set_before.size(), 1u);
  EXPECT_EQ(set_before[0].home, "/srv");
}

}  // namespace
}  // namespace kestrum::test
