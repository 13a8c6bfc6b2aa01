// A PC that was set up from an image of another one, with its state and its jobs.
#include <gtest/gtest.h>

#include <filesystem>

#include "kestrum/base/file.h"
#include "kestrum/base/uuid.h"
#include "support/program.h"
#include "support/tree.h"

namespace kestrum::test {
namespace {

namespace fs = std::filesystem;

class ImagedPc : public testing::TestWithParam<std::string> {
 protected:
  ImagedPc() {
    first.environment["KESTRUM_PC"] = make_uuid();
    put_file(first.source() + "/rota.csv", "week 1\n");
    first.define({"--protection", GetParam()});
    EXPECT_EQ(first.kestrum({"run", "desk"}).exit, 0);
    fs::copy(first.folder / "home", copy.folder / "home", fs::copy_options::recursive);
    copy.environment["KESTRUM_PC"] = make_uuid();
  }
  std::vector<std::string> with(std::vector<std::string> words) {
    if (GetParam() == "none") words.push_back("--unprotected");
    return words;
  }
  Desk first, copy;
};
INSTANTIATE_TEST_SUITE_P(Protections, ImagedPc, testing::Values("passphrase", "none"));

TEST_P(ImagedPc, WritesNothingIntoTheShelfOfTheFirst) {
  Tree before = tree_of(first.shelf());
  Ran ran = copy.kestrum({"run", "desk"});
  EXPECT_EQ(ran.exit, 5) << ran.out << ran.err;
  EXPECT_NE(ran.err.find("copy of the one that writes there"), std::string::npos) << ran.err;
  EXPECT_NE(ran.err.find("kestrum shelf claim " + first.shelf()), std::string::npos) << ran.err;
  EXPECT_EQ(copy.kestrum({"prune", "desk"}).exit, 5);
  EXPECT_EQ(tree_of(first.shelf()), before);
  EXPECT_EQ(copy.kestrum({"restore", "desk", "--to", copy.folder / "out"}).exit, 0)
      << "it may read";
  EXPECT_EQ(first.kestrum({"run", "desk"}).exit, 0);
}

TEST_P(ImagedPc, GoesOnWithTheShelfOnceItHasClaimedIt) {
  ASSERT_EQ(copy.kestrum(with({"shelf", "claim", first.shelf()})).exit, 0);
  EXPECT_EQ(copy.kestrum({"job", "resume", "desk"}).exit, 0);
  put_file(first.source() + "/rota.csv", "week 2\n");
  Ran ran = copy.kestrum({"run", "desk"});
  EXPECT_LE(ran.exit, 1) << ran.err;
  EXPECT_EQ(copy.sets(), (std::set<std::string>{"c1-0", "c1-1"}));
  EXPECT_EQ(first.kestrum({"run", "desk"}).exit, 5) << "the first is told";
  EXPECT_EQ(copy.kestrum({"verify", "desk", "--contents"}).exit, 0);
  // What the first signs from now on with the key that both had counts no more.
  EXPECT_EQ(copy.kestrum({"run", "desk"}).exit, 0);
}

TEST_P(ImagedPc, MayHaveAShelfOfItsOwnBesideTheOther) {
  Tree before = tree_of(first.shelf());
  EXPECT_NE(copy.kestrum({"shelf", "start", "desk", "--same-disk"}).exit, 0)
      << "two of one name would share a folder";
  copy.environment["KESTRUM_HOST"] = "copy-pc";
  ASSERT_EQ(copy.kestrum({"shelf", "start", "desk", "--same-disk"}).exit, 0);
  Json run = copy.json({"run", "desk"});
  EXPECT_EQ(run["runs"][0]["set"], "c1-0");
  EXPECT_TRUE(path_exists(first.disk() + "/copy-pc/desk"));
  EXPECT_EQ(tree_of(first.shelf()), before);
  EXPECT_EQ(first.kestrum({"run", "desk"}).exit, 0);
}

TEST_P(ImagedPc, OfAFormerVersionTheStateIsTakenForThisPcs) {
  // A state that was made before this was kept.
  std::string machine = first.folder / "home/state/machine";
  if (!path_exists(machine)) GTEST_SKIP() << "the state lies elsewhere";
  put_file(machine, read_file(machine).substr(0, 37));
  EXPECT_EQ(first.kestrum({"run", "desk"}).exit, 0);
  EXPECT_NE(read_file(machine).find(first.environment["KESTRUM_PC"]), std::string::npos);
}

}  // namespace
}  // namespace kestrum::test
