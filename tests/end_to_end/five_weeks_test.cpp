// Five weeks at the front desk, day by day, and then the calls that a technician gets.
#include <gtest/gtest.h>

#include <filesystem>

#include "demo/desk_data.h"
#include "kestrum/base/file.h"
#include "kestrum/base/units.h"
#include "support/program.h"
#include "support/tree.h"

namespace kestrum::test {
namespace {

namespace fs = std::filesystem;

constexpr int kDays = 35, kLettersLost = 9, kSponsorsRenamed = 16, kScrambled = 20,
              kPostersLost = 27;

class FiveWeeks : public testing::Test {
 protected:
  void on_day(int day) {
    now_ = *parse_rfc3339("2026-03-02T21:00:00Z") + day * kDay;
    desk.environment["KESTRUM_NOW"] = format_rfc3339(now_);
    demo::set_today((now_ - 4 * kHour) / kSecond);
  }
  std::string day_name(int day) {
    return format_rfc3339(*parse_rfc3339("2026-03-02T21:00:00Z") + day * kDay).substr(0, 10);
  }
  std::string documents(const std::string& name = "") {
    return desk.source() + "/Documents" + name;
  }
  std::string back(const std::string& name) { return desk.folder / ("back-" + name); }

  void replay() {
    on_day(0);
    desk.define({"--when", "every day at 21:00", "--keep-for", "40 days"});
    demo::FrontDesk front(desk.source());
    front.fill();
    for (int day = 0; day < kDays; ++day) {
      on_day(day);
      if (day > 0) front.work_a_day(day);
      if (day == kLettersLost) front.lose_the_letters();
      if (day == kSponsorsRenamed) {
        fs::rename(documents("/sponsors.csv"), documents("/Sponsors of 2026.csv"));
      }
      if (day == kScrambled) front.scramble_the_letters();
      if (day == kPostersLost) {
        int number = 0;
        for (const auto& name : list_folder(desk.source() + "/Posters")) {
          if (++number % 2 == 0) fs::remove_all(desk.source() + "/Posters/" + name);
        }
      }
      Ran ran = desk.kestrum({"run", "--due"});
      ASSERT_LE(ran.exit, 1) << "day " << day << ran.out << ran.err;
      if (day == kLettersLost - 1) signed_letters_ = tree_of(documents("/Letters/Signed"));
      if (day == kScrambled - 1) letters_ = tree_of(documents("/Letters"));
      if (day == kPostersLost - 1) posters_ = tree_of(desk.source() + "/Posters");
      rotas_[day] = read_file(documents("/Rotas/rota-week-09.csv"));
      if (day == kScrambled + 1) {
        ASSERT_EQ(desk.kestrum({"trust", "desk", suspect_set(), "--because", "a drill"}).exit, 0);
      }
    }
  }
  std::string suspect_set() {
    Json suspect = desk.json({"status", "desk"})["jobs"][0]["suspect"];
    return suspect.is_string() ? suspect.get<std::string>() : "none";
  }

  Desk desk;
  Nanos now_ = 0;
  Tree signed_letters_, letters_, posters_;
  std::map<int, std::string> rotas_;
};

TEST_F(FiveWeeks, EveryCallIsAnswered) {
  replay();
  if (HasFatalFailure()) return;

  // "The signed agreements are gone." Since when, and as they were the day before.
  Json traced = desk.json({"trace", "desk", "agreement-01.odt"})["versions"];
  ASSERT_EQ(traced.size(), 1u);
  EXPECT_EQ(traced[0]["state"], "gone");
  EXPECT_EQ(traced[0]["last_seen"].get<std::string>().substr(0, 10), day_name(kLettersLost - 1));
  ASSERT_EQ(desk.kestrum({"restore", "desk", documents("/Letters/Signed"), "--point",
                          day_name(kLettersLost - 1), "--to", back("signed")})
                .exit,
            0);
  EXPECT_EQ(difference(signed_letters_, tree_of(back("signed"))), "");

  // The rota as it was on three days, and beside the one of today.
  for (int day : {3, 18, 30}) {
    EXPECT_EQ(
        desk.kestrum({"restore", "desk", "rota-week-09.csv", "--point", day_name(day), "--to", "-"})
            .out,
        rotas_[day])
        << day;
  }
  ASSERT_EQ(desk.kestrum({"restore", "desk", "rota-week-09.csv", "--point", day_name(18),
                          "--in-place", "--clash", "both"})
                .exit,
            0);
  EXPECT_EQ(read_file(documents("/Rotas/rota-week-09.csv")), rotas_[kDays - 1]) << "not over it";
  EXPECT_EQ(read_file(documents("/Rotas/rota-week-09.of-" + day_name(18) + "-2100.csv")),
            rotas_[18]);

  // The folder that was half overwritten, as it was before.
  ASSERT_EQ(desk.kestrum({"restore", "desk", documents("/Letters"), "--point",
                          day_name(kScrambled - 1), "--to", back("letters")})
                .exit,
            0);
  letters_.erase("/draft.txt~");  // litter
  EXPECT_EQ(difference(letters_, tree_of(back("letters"))), "");

  // "Half of the posters are gone, I do not know since when."
  ASSERT_EQ(
      desk.kestrum({"restore", "desk", desk.source() + "/Posters", "--missing", "--in-place"}).exit,
      0);
  // What the rules leave out was in no set.
  for (const auto& [path, facts] : tree_of(desk.source() + "/Posters")) {
    if (path.empty() || path.find("export.tmp") != std::string::npos) continue;
    EXPECT_EQ(posters_[path], facts) << path;
  }

  // The file that got another name.
  std::set<std::string> names;
  Json versions = desk.json({"trace", "desk", "sponsors.csv"})["versions"];
  for (const Json& version : versions) {
    names.insert(base_name(version["path"].get<std::string>()));
  }
  EXPECT_EQ(names, (std::set<std::string>{"sponsors.csv", "Sponsors of 2026.csv"}));

  // The whole desk on another PC, under another home, by a user who has only disk and passphrase.
  on_day(kDays);
  ASSERT_LE(desk.kestrum({"run", "--due"}).exit, 1);
  Desk other{"other-pc"};
  other.environment["KESTRUM_NOW"] = desk.environment["KESTRUM_NOW"];
  fs::remove_all(other.source());
  std::string map = desk.source() + "=" + other.source();
  ASSERT_EQ(other.kestrum({"shelf", "claim", desk.shelf(), "--map", map}).exit, 0);
  ASSERT_EQ(other.kestrum({"restore", "desk", "--in-place", "--everything", "--map", map}).exit, 0);
  Tree was = tree_of(desk.source()), is = tree_of(other.source());
  for (const auto& [path, facts] : is) EXPECT_EQ(was[path], facts) << path;
  EXPECT_EQ(desk.json({"sets", "--shelf", desk.shelf()})["chains"].size(), 3u);
  Json newest = other.json({"look", "desk", "--depth", "9"})["entries"];
  std::size_t files = 0;
  for (const Json& entry : newest) files += entry["type"] == "file";
  std::size_t restored = 0;
  for (const auto& entry : fs::recursive_directory_iterator(other.source())) {
    restored += entry.is_regular_file();
  }
  EXPECT_EQ(files, restored) << "each of them";
  EXPECT_EQ(other.kestrum({"verify", "desk", "--contents"}).exit, 0);
}

}  // namespace
}  // namespace kestrum::test
