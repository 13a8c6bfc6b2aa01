// Six jobs for sixty days: the forecasts of days 3, 10 and 30 against what then happened.
#include <fcntl.h>
#include <gtest/gtest.h>
#include <sys/stat.h>

#include <cmath>
#include <filesystem>

#include "kestrum/base/file.h"
#include "kestrum/base/units.h"
#include "support/program.h"
#include "support/small_disk.h"

namespace kestrum::test {
namespace {

namespace fs = std::filesystem;

constexpr int kSixtyDays = 60;

// Text that shrinks to about a third.
std::string prose(std::size_t size, unsigned seed) {
  static const char* kWords[] = {"harbour", "tide",  "rota",    "sponsor", "evening", "the",
                                 "minutes", "and",   "weather", "of",      "letter",  "reply",
                                 "studio",  "cable", "meeting", "a",       "desk",    "record"};
  std::string text, bytes = noise(size / 3, seed);
  for (std::size_t i = 0; text.size() < size; ++i) {
    text += kWords[static_cast<unsigned char>(bytes[i % bytes.size()]) % std::size(kWords)];
    text += ' ';
  }
  text.resize(size);
  return text;
}

// What people do on a day to the folder of a job.
class Office {
 public:
  Office(Desk& desk, std::string kind) : desk_(desk), kind_(std::move(kind)) {}

  void work(int day) {
    day_ = day;
    if (day == 0) {
      for (int i = 0; i < 60; ++i) put("old/" + std::to_string(i), prose(60'000, seed()), -200 - i);
    }
    // Letters are written and changed everywhere.
    for (int i = 0; i < 4; ++i) put("letters/" + std::to_string(i), prose(30'000, seed()));
    if (kind_ == "grows") {
      for (int i = 0; i < 4; ++i) {
        put("pictures/" + std::to_string(day) + "-" + std::to_string(i), noise(60'000, seed()));
      }
    } else if (kind_ == "films") {
      // A desk of letters gets films from day 5 on.
      put("texts/" + std::to_string(day), prose(40'000, seed()));
      if (day >= 5) put("films/" + std::to_string(day), noise(400'000, seed()));
    } else if (kind_ == "mailbox") {
      if (mailbox_.empty()) mailbox_ = prose(1'500'000, seed());
      mailbox_ += prose(40'000, seed());
      mailbox_.replace(mailbox_.size() / 2, 2000, prose(2000, seed()));
      put("mail/inbox", mailbox_);
    } else if (kind_ == "steady") {
      for (int i = 0; i < 3; ++i) put("project/" + std::to_string(i), noise(80'000, seed()));
    } else if (kind_ == "fridays") {
      if (day % 7 == 5) put("broadcast/" + std::to_string(day), noise(1'200'000, seed()));
      put("texts/" + std::to_string(day), prose(20'000, seed()));
    }
  }

 private:
  unsigned seed() { return ++seed_; }
  // With the time of that day.
  void put(const std::string& name, const std::string& content, int days_later = 0) {
    std::string path = desk_.source() + "/" + name;
    fs::create_directories(fs::path(path).parent_path());
    put_file(path, content);
    std::time_t when =
        *parse_rfc3339("2026-03-01T12:00:00Z") / kSecond + (day_ + days_later) * (kDay / kSecond);
    timespec times[2] = {{when, 0}, {when, 0}};
    ::utimensat(AT_FDCWD, path.c_str(), times, 0);
  }

  Desk& desk_;
  std::string kind_, mailbox_;
  int day_ = 0;
  unsigned seed_ = 1;
};

struct SomeJob {
  const char* kind;
  const char* dependents;
  unsigned megabytes;        // of the disk
  int range_from, day_from;  // from which day on the past can tell a range, and a day within it
  std::string name() const { return std::string(kind) + "_" + dependents; }
};

void PrintTo(const SomeJob& job, std::ostream* out) {
  *out << job.name();
}

class SixtyDays : public testing::TestWithParam<SomeJob> {
 protected:
  static std::optional<int> day_in(const Json& time) {
    if (time.is_null()) return std::nullopt;
    Nanos since = *parse_rfc3339(time.get<std::string>()) - *parse_rfc3339("2026-03-01T21:00:00Z");
    return static_cast<int>(since / kDay);
  }
};

TEST_P(SixtyDays, TheDayOnWhichTheDiskIsFullIsForeseen) {
  const SomeJob& job = GetParam();
  Desk desk;
  SmallDisk disk(desk.folder, desk.disk(), job.megabytes, DiskKind::kTmpfs);
  if (!disk.mounted()) GTEST_SKIP() << disk.why_not();
  desk.on_day(0);
  desk.define({"--protection", "none", "--kind", job.dependents, "--new-full",
               job.dependents == std::string("differential") ? "after 6 differentials"
                                                             : "after 6 incrementals",
               "--keep-for", "7 days", "--when", "every day at 21:00"});
  std::string file = desk.folder / "home/jobs/desk.toml";
  put_file(file, read_file(file) + "\n[report]\nsuspect_above = \"100%\"\n");
  Office office(desk, job.kind);
  struct Foretold {
    std::optional<int> full, early, late;
    std::string by;
  };
  std::map<int, Foretold> foretold;
  std::optional<int> full;
  for (int day = 0; day < kSixtyDays && !full; ++day) {
    desk.on_day(day);
    office.work(day);
    if (day == 0 || day == 3 || day == 10 || day == 30) {
      Ran ran = desk.kestrum({"forecast", "desk", "--json"});
      Json plan = Json::parse(ran.out)["plan"];
      foretold[day] = {day_in(plan["full_at"]), day_in(plan["full_between"][0]),
                       day_in(plan["full_between"][1]), plan["by"]};
    }
    Ran ran = desk.kestrum({"run", "desk"});
    ASSERT_TRUE(ran.exit == 0 || ran.exit == 1 || ran.exit == 6) << ran.out << ran.err;
    if (ran.exit != 0) full = day;
  }
  std::string told;
  for (const auto& [day, it] : foretold) {
    auto text = [](std::optional<int> when) { return when ? std::to_string(*when) : "never"; };
    told += "on day " + std::to_string(day) + ": full on day " + text(it.full) + ", " +
            text(it.early) + " to " + text(it.late) + ", by " + it.by + "\n";
  }
  told += "it was full on day " + (full ? std::to_string(*full) : "none");
  std::printf("%s, %s\n%s\n", job.kind, job.dependents, told.c_str());
  for (const auto& [day, it] : foretold) {
    if (day < job.range_from) continue;
    if (!full) {
      int soonest = kSixtyDays - kSixtyDays / 5;
      EXPECT_TRUE(day < job.day_from || !it.full || *it.full >= soonest) << day << "\n" << told;
      continue;
    }
    double off = 0.2 * *full;
    EXPECT_LE(it.early.value_or(1000), *full + off) << "day " << day << "\n" << told;
    EXPECT_GE(it.late.value_or(1000), *full - off) << "day " << day << "\n" << told;
    if (day < job.day_from) continue;
    ASSERT_TRUE(it.full) << told;
    EXPECT_NEAR(*it.full, *full, off) << "day " << day << "\n" << told;
  }
}

INSTANTIATE_TEST_SUITE_P(
    Of, SixtyDays,
    testing::Values(SomeJob{"grows", "incremental", 28, 3, 10},
                    SomeJob{"grows", "differential", 28, 3, 10},
                    SomeJob{"films", "incremental", 38, 10, 10},
                    SomeJob{"mailbox", "incremental", 10, 10, 10},
                    SomeJob{"steady", "incremental", 16, 3, 10},
                    // What comes once a week is a range, once it came a few times.
                    SomeJob{"fridays", "incremental", 18, 30, 99}),
    [](const auto& job) { return job.param.name(); });

}  // namespace
}  // namespace kestrum::test
