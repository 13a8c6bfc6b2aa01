// Weeks of `kestrum run --due` by a simulated clock, through the program.
#include <gtest/gtest.h>
#include <libical/ical.h>

#include <filesystem>

#include "kestrum/base/file.h"
#include "kestrum/base/units.h"
#include "support/program.h"

namespace kestrum::test {
namespace {

namespace fs = std::filesystem;

class Scheduled : public testing::Test {
 protected:
  void define(const std::string& phrase, const std::vector<std::string>& more = {}) {
    now("2026-03-02T12:00:00Z");
    put_file(desk.source() + "/file", "1");
    std::vector<std::string> words = {"--protection", "none", "--when", phrase};
    words.insert(words.end(), more.begin(), more.end());
    desk.define(words);
  }
  void now(const std::string& time) { desk.environment["KESTRUM_NOW"] = time; }
  void now(Nanos time) { now(format_rfc3339(time)); }
  // The runs that `run --due` makes at a time.
  Json due(const std::string& time, int exit = 0) {
    now(time);
    return desk.json({"run", "--due"}, exit)["runs"];
  }
  Json status() { return desk.json({"status", "desk"})["jobs"][0]; }
  Json history() { return desk.json({"history", "desk"})["runs"]; }
  // Every few minutes from one moment to another; the times that made a set.
  std::vector<std::string> tick(const std::string& from, const std::string& to, Nanos step) {
    std::vector<std::string> made;
    for (Nanos t = *parse_rfc3339(from); t < *parse_rfc3339(to); t += step) {
      for (const Json& run : due(format_rfc3339(t))) {
        if (!run["set"].is_null()) made.push_back(run["started"]);
      }
    }
    return made;
  }
  void job_key(const std::string& section, const std::string& line) {
    std::string path = desk.folder / "home/jobs/desk.toml";
    std::string text = read_file(path), head = "[" + section + "]\n";
    std::size_t at = text.find(head);
    put_file(path, at == std::string::npos ? text + "\n" + head + line + "\n"
                                           : text.insert(at + head.size(), line + "\n"));
  }
  Desk desk;
};

TEST_F(Scheduled, RunsWhenItIsDueAndNotBefore) {
  define("daily at 9pm");
  EXPECT_EQ(desk.json({"job", "show", "desk"})["keys"]["schedule.when"][0], "every day at 21:00");
  EXPECT_EQ(tick("2026-03-02T20:00:00Z", "2026-03-03T22:00:00Z", 15 * kMinute),
            (std::vector<std::string>{"2026-03-02T21:00:00Z", "2026-03-03T21:00:00Z"}));
  EXPECT_EQ(status()["next_run"], "2026-03-04T21:00:00Z");
  EXPECT_EQ(history()[1]["trigger"], "scheduled for 2026-03-03 21:00");
}

TEST_F(Scheduled, APcThatWasOffMakesUpOnce) {
  define("every day at 21:00");
  due("2026-03-02T21:00:00Z");
  Json runs = due("2026-03-10T08:00:00Z");
  ASSERT_EQ(runs.size(), 1u);
  EXPECT_NE(runs[0]["trigger"].get<std::string>().find("makes up for 7 times"), std::string::npos);
  EXPECT_EQ(due("2026-03-10T08:05:00Z").size(), 0u);
  EXPECT_EQ(due("2026-03-10T21:00:00Z").size(), 1u);
}

TEST_F(Scheduled, MissedTimesAreLetGoAndRecordedIfTheJobSaysSo) {
  define("every day at 21:00", {"--if-missed", "skip"});
  due("2026-03-02T21:00:00Z");
  EXPECT_EQ(due("2026-03-10T08:00:00Z").size(), 0u);
  Json last = history().back();
  EXPECT_EQ(last["outcome"], "skipped");
  EXPECT_NE(last["reason"].get<std::string>().find("missed 7 times"), std::string::npos);
  EXPECT_EQ(due("2026-03-10T21:04:00Z").size(), 1u);
}

TEST_F(Scheduled, ADiskThatIsAwayIsWaitedForAndSaid) {
  define("every day at 21:00");
  due("2026-03-02T21:00:00Z");
  fs::rename(desk.disk(), desk.disk() + "-drawer");
  EXPECT_EQ(tick("2026-03-03T20:00:00Z", "2026-03-06T20:00:00Z", 4 * kHour).size(), 0u);
  Json waiting = status();
  EXPECT_EQ(waiting["waiting_since"], "2026-03-04T00:00:00Z");
  EXPECT_NE(waiting["waiting_for"].get<std::string>().find("not plugged in"), std::string::npos);
  Json records = history();
  ASSERT_EQ(records.size(), 2u) << "one record for all the waiting";
  EXPECT_EQ(records[1]["outcome"], "skipped");
  fs::rename(desk.disk() + "-drawer", desk.disk());
  Json runs = due("2026-03-06T20:00:00Z");
  ASSERT_EQ(runs.size(), 1u);
  EXPECT_NE(runs[0]["trigger"].get<std::string>().find("makes up for 3 times"), std::string::npos);
  EXPECT_TRUE(status()["waiting_since"].is_null());
}

TEST_F(Scheduled, WithSkipADiskThatIsAwayIsAMissedTime) {
  define("every day at 21:00", {"--if-missed", "skip"});
  fs::rename(desk.disk(), desk.disk() + "-drawer");
  tick("2026-03-02T21:00:00Z", "2026-03-02T22:30:00Z", 15 * kMinute);
  EXPECT_TRUE(status()["waiting_since"].is_null());
  EXPECT_NE(history().back()["reason"].get<std::string>().find("not plugged in"),
            std::string::npos);
  fs::rename(desk.disk() + "-drawer", desk.disk());
  EXPECT_EQ(due("2026-03-03T08:00:00Z").size(), 0u);
}

TEST_F(Scheduled, OfTwoDisksTheOneWithTheOlderSetIsUsed) {
  std::string second = desk.folder / "second";
  fs::create_directories(second);
  define("every day at 21:00", {"--to", second});
  std::vector<std::string> used;
  for (int day = 2; day < 8; ++day) {
    if (day == 5) fs::rename(second, second + "-away");
    if (day == 7) fs::rename(second + "-away", second);
    Json runs = due("2026-03-0" + std::to_string(day) + "T21:00:00Z");
    ASSERT_EQ(runs.size(), 1u);
    std::string path = runs[0]["shelf"]["path"];
    used.push_back(path.starts_with(second) ? "second" : "first");
  }
  EXPECT_EQ(used,
            (std::vector<std::string>{"first", "second", "first", "first", "first", "second"}));
}

TEST_F(Scheduled, AFailedRunIsTriedAgainAndNeverRunsTwiceAtOnce) {
  define("every day at 21:00");
  job_key("before_run", "command = \"exit 3\"");
  now("2026-03-02T21:00:00Z");
  std::size_t runs = 0;
  for (Nanos t = *parse_rfc3339("2026-03-02T21:00:00Z"); t < *parse_rfc3339("2026-03-03T20:00:00Z");
       t += 10 * kMinute) {
    now(t);
    Ran ran = desk.kestrum({"run", "--due", "--quiet"});
    runs += ran.exit == 3;
  }
  EXPECT_GE(runs, 5u);
  EXPECT_LE(runs, 10u);
  EXPECT_EQ(status()["outcome"], "failed");
  EXPECT_EQ(desk.kestrum({"status", "--probe"}).exit, 2);
}

TEST_F(Scheduled, JobsRunOneAfterTheOtherTheEarliestFirst) {
  define("every day at 21:30");
  for (auto [name, phrase] :
       {std::pair{"early", "every day at 20:00"}, {"late", "every day at 22:00"}}) {
    EXPECT_EQ(desk.kestrum({"job", "new", name, "--from", desk.source(), "--to", desk.disk(),
                            "--same-disk", "--protection", "none", "--when", phrase})
                  .exit,
              0);
  }
  Json runs = due("2026-03-03T06:00:00Z");
  ASSERT_EQ(runs.size(), 3u);
  EXPECT_EQ(runs[0]["job"], "early");
  EXPECT_EQ(runs[1]["job"], "desk");
  EXPECT_EQ(runs[2]["job"], "late");
}

TEST_F(Scheduled, AClockSetBackAndOneFromTheFutureDoNotStopIt) {
  define("every day at 21:00");
  due("2026-03-02T21:00:00Z");
  EXPECT_EQ(due("2040-01-01T00:00:00Z").size(), 1u);
  EXPECT_EQ(due("2026-03-03T08:00:00Z").size(), 0u);
  EXPECT_EQ(due("2026-03-03T21:00:00Z").size(), 1u);
  EXPECT_EQ(due("2026-03-04T21:00:00Z").size(), 1u);
  EXPECT_EQ(history().size(), 4u);
  EXPECT_EQ(status()["last_run"], "2026-03-04T21:00:00Z") << "the order of records is no clock's";
}

TEST_F(Scheduled, APauseHoldsUntilItsDate) {
  define("every day at 21:00");
  EXPECT_EQ(desk.kestrum({"job", "pause", "desk", "--until", "2026-03-05"}).exit, 0);
  EXPECT_EQ(status()["paused"], true);
  EXPECT_EQ(tick("2026-03-02T21:00:00Z", "2026-03-05T20:00:00Z", 6 * kHour).size(), 0u);
  EXPECT_EQ(due("2026-03-05T21:00:00Z").size(), 1u);
  EXPECT_EQ(desk.kestrum({"job", "pause", "desk"}).exit, 0);
  EXPECT_EQ(due("2026-03-06T21:00:00Z").size(), 0u);
  EXPECT_EQ(desk.kestrum({"run", "desk"}).exit, 0) << "by hand it still runs";
  EXPECT_EQ(desk.kestrum({"job", "resume", "desk"}).exit, 0);
  EXPECT_EQ(due("2026-03-07T08:00:00Z").size(), 0u);
  EXPECT_EQ(due("2026-03-07T21:00:00Z").size(), 1u);
  EXPECT_EQ(desk.kestrum({"job", "pause", "desk", "--until", "2026-03-01"}).exit, 2);
}

TEST_F(Scheduled, OnBatteryItWaits) {
  define("every day at 21:00");
  job_key("schedule", "on_battery = \"wait\"");
  std::string supplies = desk.folder / "power";
  fs::create_directories(supplies + "/BAT0");
  put_file(supplies + "/BAT0/type", "Battery\n");
  put_file(supplies + "/BAT0/status", "Discharging\n");
  desk.environment["KESTRUM_POWER_SUPPLIES"] = supplies;
  EXPECT_EQ(due("2026-03-02T21:00:00Z").size(), 0u);
  EXPECT_NE(status()["waiting_for"].get<std::string>().find("battery"), std::string::npos);
  put_file(supplies + "/BAT0/status", "Charging\n");
  EXPECT_EQ(due("2026-03-02T21:10:00Z").size(), 1u);
}

TEST_F(Scheduled, ABrokenJobFileDoesNotStopTheOthers) {
  define("every day at 21:00");
  put_file(desk.folder / "home/jobs/broken.toml", "format = 1\n[source\n");
  EXPECT_EQ(due("2026-03-02T21:00:00Z", 2).size(), 1u);
  Json jobs = desk.json({"status"})["jobs"];
  EXPECT_EQ(jobs[0]["job"], "broken") << "worst first";
}

TEST_F(Scheduled, ARememberedScheduleThatIsDamagedCountsFromNow) {
  define("every day at 21:00");
  due("2026-03-02T21:00:00Z");
  put_file(desk.folder / "home/state/schedule/desk.json", "{ nonsense");
  EXPECT_EQ(due("2026-03-03T20:00:00Z").size(), 0u);
  EXPECT_EQ(due("2026-03-03T21:00:00Z").size(), 1u);
}

TEST_F(Scheduled, TheAgendaSaysWhatRunsAndOfWhichKind) {
  define("every day at 21:00", {"--new-full", "after 3 incrementals"});
  due("2026-03-02T21:00:00Z");
  std::string file = desk.folder / "agenda.ics";
  Json agenda = desk.json({"agenda", "desk", "--days", "10", "--ics", file})["runs"];
  ASSERT_EQ(agenda.size(), 10u);
  // What it says is what happens.
  for (const Json& entry : agenda) {
    Json runs = due(entry["at"]);
    ASSERT_EQ(runs.size(), 1u) << entry;
    EXPECT_EQ(runs[0]["kind"], entry["kind"]) << entry;
  }
  // The calendar file, read back.
  icalcomponent* calendar = icalparser_parse_string(read_file(file).c_str());
  ASSERT_NE(calendar, nullptr);
  EXPECT_EQ(icalcomponent_count_errors(calendar), 0);
  std::size_t i = 0;
  for (auto* event = icalcomponent_get_first_component(calendar, ICAL_VEVENT_COMPONENT);
       event != nullptr;
       event = icalcomponent_get_next_component(calendar, ICAL_VEVENT_COMPONENT), ++i) {
    time_t start = icaltime_as_timet(icalcomponent_get_dtstart(event));
    EXPECT_EQ(format_rfc3339(start * kSecond), agenda[i]["at"]);
    std::string title = icalcomponent_get_summary(event);
    EXPECT_NE(title.find(agenda[i]["kind"].get<std::string>()), std::string::npos) << title;
  }
  EXPECT_EQ(i, 10u);
  icalcomponent_free(calendar);
}

// A quarter of a year, looked at every six hours while the PC is on, against a model.
TEST_F(Scheduled, AQuarterWithAPcThatIsOffAndADiskThatIsAway) {
  define("every day at 21:00");
  EXPECT_EQ(desk.kestrum({"job", "new", "weekly", "--from", desk.source(), "--to", desk.disk(),
                          "--same-disk", "--protection", "none", "--when", "every mon at 12:00"})
                .exit,
            0);
  std::map<std::string, int> made, expected;
  bool owes_daily = false, owes_weekly = false, away = false;
  Nanos begin = *parse_rfc3339("2026-03-02T14:00:00Z");
  for (int step = 0; step < 90 * 4; ++step) {
    Nanos t = begin + step * 6 * kHour;
    int day = step / 4;
    bool nine_passed = step % 4 == 2;                      // 02:00: 21:00 lies behind
    bool monday_noon_passed = step % 28 == 0 && step > 0;  // Monday 14:00
    owes_daily |= nine_passed;
    owes_weekly |= monday_noon_passed;
    bool off = day >= 20 && day < 27, away_now = day >= 40 && day < 43;
    if (off) continue;
    if (away_now != away) {
      away = away_now;
      fs::rename(away ? desk.disk() : desk.disk() + "-drawer",
                 away ? desk.disk() + "-drawer" : desk.disk());
    }
    for (const Json& run : due(format_rfc3339(t))) ++made[run["job"]];
    if (away) continue;
    expected["desk"] += owes_daily;
    expected["weekly"] += owes_weekly;
    owes_daily = owes_weekly = false;
  }
  EXPECT_EQ(made, expected);
  EXPECT_GT(made["desk"], 75);
  // Every run is on record, and whatever was copied is sound.
  EXPECT_EQ(desk.kestrum({"verify", "desk", "--contents"}).exit, 0);
  EXPECT_EQ(history().size(), static_cast<std::size_t>(made["desk"]) + 1)
      << "and one record of waiting";
}

TEST_F(Scheduled, AJobIsTakenOnTwentyHomes) {
  std::string file = desk.folder / "rota.toml";
  put_file(desk.source() + "/file", "1");
  put_file(file, "format = 1\n# the support desk's\n[source]\nfolders = [\"" + desk.source() +
                     "\"]\n[destination]\nplaces = [\"" + desk.disk() +
                     "\"]\n[schedule]\nwhen = [\"every day at 21:00\"]\nspread = \"60 minutes\"\n"
                     "[protection]\nmode = \"none\"\n");
  std::set<std::string> starts;
  for (int pc = 0; pc < 20; ++pc) {
    desk.environment["KESTRUM_HOME"] = desk.folder / ("home" + std::to_string(pc));
    desk.environment["KESTRUM_HOST"] = "pc-" + std::to_string(pc);
    now("2026-03-02T12:00:00Z");
    for (int again = 0; again < 2; ++again) {
      Json taken = desk.json({"job", "take", file, "--same-disk"});
      EXPECT_EQ(taken["changed"], again == 0);
      EXPECT_EQ(taken["shelves"].size(), again == 0 ? 1u : 0u);
    }
    EXPECT_EQ(read_file(desk.environment["KESTRUM_HOME"] + "/jobs/rota.toml"), read_file(file))
        << "comments and all";
    starts.insert(desk.json({"status", "rota"})["jobs"][0]["next_run"].get<std::string>());
    EXPECT_EQ(due("2026-03-02T22:00:00Z").size(), 1u);
  }
  EXPECT_GE(starts.size(), 8u) << "spread over the hour";
}

}  // namespace
}  // namespace kestrum::test
