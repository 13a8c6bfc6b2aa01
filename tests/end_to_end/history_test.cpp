// Logs: as much in them as the job says, and what went wrong first.
#include <gtest/gtest.h>

#include <filesystem>

#include "kestrum/base/file.h"
#include "support/program.h"

namespace kestrum::test {
namespace {

namespace fs = std::filesystem;

class Logs : public testing::Test {
 protected:
  std::string log_with(const std::string& detail) {
    EXPECT_EQ(desk.kestrum({"job", "set", "desk", "report.detail", detail}).exit, 0);
    put_file(desk.source() + "/changing", detail);
    fs::remove(desk.source() + "/going");
    desk.kestrum({"run", "desk"});
    put_file(desk.source() + "/going", detail);
    return desk.kestrum({"history", "desk", "--show", "newest"}).out;
  }
  Desk desk;
};

TEST_F(Logs, HoldAsMuchAsTheJobSays) {
  put_file(desk.source() + "/same", "same");
  put_file(desk.source() + "/going", "going");
  desk.define({"--protection", "none"});
  desk.kestrum({"run", "desk"});
  std::string every = log_with("every file");
  EXPECT_NE(every.find("copied: " + desk.source() + "/changing (10 bytes)"), std::string::npos)
      << every;
  EXPECT_NE(every.find("gone: " + desk.source() + "/going"), std::string::npos) << every;
  EXPECT_EQ(every.find("/same"), std::string::npos) << every;
  std::string normal = log_with("normal"), brief = log_with("short");
  EXPECT_EQ(normal.find("/changing"), std::string::npos) << normal;
  EXPECT_LT(brief.size(), normal.size() + 1);
  for (const std::string& log : {every, normal, brief}) {
    EXPECT_NE(log.find("bytes: seen"), std::string::npos) << log;
    EXPECT_NE(log.find("/s stored"), std::string::npos) << log;
    bool reads = log.find("read back ") != std::string::npos;
    EXPECT_TRUE(reads || log == brief) << log;
  }
}

TEST_F(Logs, AreShownWithWhatWentWrongFirst) {
  put_file(desk.source() + "/same", "same");
  desk.define({"--protection", "none", "--from", desk.folder / "away"});
  desk.kestrum({"run", "desk"});
  std::string log = desk.kestrum({"history", "desk", "--show", "newest"}).out;
  std::size_t warning = log.find("warning: "), end = log.find("\n\n");
  EXPECT_LT(warning, end) << log;
  EXPECT_EQ(log.find("warning: ", end), std::string::npos) << log;
}

}  // namespace
}  // namespace kestrum::test
