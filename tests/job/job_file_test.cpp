#include "kestrum/job/job_file.h"

#include <gtest/gtest.h>

#include "kestrum/job/job_keys.h"
#include "kestrum/job/job_store.h"

namespace kestrum {
namespace {

constexpr const char* kSmall =
    "[source]\nfolders = [\"/home/frontdesk\"]\n[destination]\nplaces = [\"/media/blue-disk\"]\n";

std::string first_problem(const std::string& toml) {
  ParsedJob parsed = parse_job("desk", toml);
  return parsed.problems.empty() ? "" : parsed.problems[0].text();
}

TEST(JobFiles, TakeTheirDefaults) {
  ParsedJob parsed = parse_job("desk", kSmall);
  ASSERT_TRUE(parsed.usable()) << parsed.problems[0].text();
  EXPECT_EQ(parsed.job.folders, std::vector<std::string>{"/home/frontdesk"});
  EXPECT_EQ(parsed.job.part_size, 1'000'000'000U);
  EXPECT_EQ(parsed.job.follows_full, SetKind::kIncremental);
  EXPECT_EQ(parsed.job.new_full.count, 13U);
  EXPECT_TRUE(parsed.job.encrypted);
  EXPECT_EQ(parsed.job.verify, ReadBack::kParts);
}

TEST(JobFiles, AreWrittenWithTheKeysThatDiffer) {
  std::map<std::string, KeyValue> values = {
      {"source.folders", std::vector<std::string>{"/a,b", "/quote\"back\\slash\n"}},
      {"destination.places", std::vector<std::string>{"/media/disk"}},
      {"chain.kind", std::string("differential")},
      {"compression.level", std::string("normal")}};
  std::string text = render_job(values);
  EXPECT_NE(text.find("kind = \"differential\""), std::string::npos);
  EXPECT_EQ(text.find("level"), std::string::npos) << "a default is not written";
  ParsedJob parsed = parse_job("desk", text);
  ASSERT_TRUE(parsed.usable()) << parsed.problems[0].text();
  EXPECT_EQ(std::get<std::vector<std::string>>(parsed.job.values.at("source.folders")),
            std::get<std::vector<std::string>>(values["source.folders"]));
}

TEST(JobFiles, NameTheLineAndKeyOfWhatIsWrong) {
  const std::vector<std::pair<std::string, std::string>> cases = {
      {"[keep]\nfor = \"-3 days\"\n", "line 6: keep.for"},
      {"[keep]\nchains = 0\n", "keep.chains"},
      {"[chain]\nnew_full = \"after 0 incrementals\"\n", "chain.new_full"},
      {"[chain]\nkind = \"partial\"\n", "chain.kind"},
      {"[compression]\nlevel = 9\n", "must be a text"},
      {"[protection]\nmode = \"rot13\"\n", "protection.mode"},
      {"[protection]\nalso_for = [\"age1nonsense\"]\n", "protection.also_for"},
      {"[after_run]\nverify = \"maybe\"\n", "after_run.verify"},
      {"[effort]\nlimit = \"20 MB\"\n", "effort.limit"},
      {"[report]\nsuspect_above = \"40\"\n", "report.suspect_above"},
      {"[schedule]\nif_missed = \"cry\"\n", "schedule.if_missed"},
      {"[keep]\nfro = \"3 days\"\n", "did you mean keep.for?"},
      {"format = 2\n", "line 5"},
      {"[broken\n", "line "}};
  for (const auto& [more, expected] : cases) {
    std::string problem = first_problem(std::string(kSmall) + more);
    EXPECT_NE(problem.find(expected), std::string::npos) << more << ": " << problem;
  }
  EXPECT_NE(first_problem("[destination]\nplaces=[\"/d\"]\n").find("source.folders"),
            std::string::npos);
  EXPECT_NE(first_problem("[source]\nfolders=[\"relative\"]\n[destination]\nplaces=[\"/d\"]\n")
                .find("absolute"),
            std::string::npos);
  EXPECT_NE(first_problem("format = 2\n" + std::string(kSmall)).find("format 1"),
            std::string::npos);
  EXPECT_NE(first_problem(
                "[source]\nfolders=[\"/a\"]\nleave_out=[\"\"]\n[destination]\nplaces=[\"/d\"]\n")
                .find("leave_out"),
            std::string::npos);
  EXPECT_NE(first_problem(
                "[source]\nfolders=[\"/a\"]\nonly=[\"docments\"]\n[destination]\nplaces=[\"/d\"]\n")
                .find("documents"),
            std::string::npos);
  EXPECT_NE(first_problem(
                "[source]\nfolders=[\"/a\"]\n[destination]\nplaces=[\"/d\"]\npart_size=\"5 GB\"\n")
                .find("4 GB"),
            std::string::npos);
}

TEST(JobNames, AreChecked) {
  for (const char* good : {"a", "front-desk", "Studio_2.old", "7"})
    EXPECT_FALSE(bad_job_name(good)) << good;
  for (const char* bad :
       {"", "-a", ".a", "a.", "a b", "a/b", "nul", "LPT1", "com9.txt", "\xc3\xa9"}) {
    EXPECT_TRUE(bad_job_name(bad)) << bad;
  }
}

}  // namespace
}  // namespace kestrum
