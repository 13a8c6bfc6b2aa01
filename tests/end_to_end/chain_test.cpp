// The promise itself: each restore point gives back the tree as it was then.
#include <gtest/gtest.h>
#include <unistd.h>

#include <filesystem>

#include "kestrum/base/file.h"
#include "support/program.h"
#include "support/tree.h"

namespace kestrum::test {
namespace {

Tree restore_tree(Desk& desk, const std::string& set) {
  std::string to = desk.folder / ("out-" + set);
  Ran ran = desk.kestrum({"restore", "desk", "--to", to, "--point", set, "--layout", "full"});
  EXPECT_EQ(ran.exit, 0) << set << "\n" << ran.out << ran.err;
  Tree tree = tree_of(to + desk.source());
  std::filesystem::remove_all(to);
  return tree;
}

class ChainTest : public testing::TestWithParam<std::vector<std::string>> {};

TEST_P(ChainTest, EveryRestorePointGivesBackTheTreeAsItWasThen) {
  Desk desk;
  desk.define(GetParam());
  TreeMaker maker(desk.source(), 7);
  bool large = GetParam().empty();
  maker.grow(large ? 3600 : 500);
  const std::vector<std::pair<std::string, std::string>> runs = {
      {"c1-0", "full"},        {"c1-1", "incremental"},  {"c1-2", "incremental"},
      {"c1-3", "incremental"}, {"c1-4", "differential"}, {"c1-5", "differential"},
      {"c1-6", "incremental"}, {"c2-0", "full"},         {"c2-1", "differential"},
      {"c2-2", "incremental"}, {"c2-3", "differential"}};
  std::map<std::string, Tree> expected;
  for (const auto& [set, kind] : runs) {
    Json report = desk.json({"run", "desk", "--kind", kind});
    ASSERT_EQ(report["runs"][0]["set"], set);
    ASSERT_EQ(report["runs"][0]["kind"], kind);
    const Json& files = report["runs"][0]["files"];
    EXPECT_EQ(files["seen"].get<int>(), files["copied"].get<int>() + files["moved"].get<int>() +
                                            files["same"].get<int>() + files["failed"].get<int>());
    expected[set] = tree_of(desk.source());
    maker.change(large ? 150 : 60);
  }
  ASSERT_GE(expected["c1-0"].size(), large ? 3000U : 400U);
  for (const auto& [set, tree] : expected) {
    EXPECT_EQ(difference(tree, restore_tree(desk, set)), "") << set;
  }
  Json verified = desk.json({"verify", "desk", "--contents"});
  EXPECT_EQ(verified["checked"]["sets"], runs.size());
  EXPECT_TRUE(verified["damage"].empty());

  // The index is a cache: without it, everything is read from the disk.
  std::filesystem::remove_all(desk.folder / "home/state");
  for (const std::string set : {"c1-5", "c1-6", "c2-3"}) {
    std::string to = desk.folder / ("from-disk-" + set);
    Ran ran = desk.kestrum({"restore", "--shelf", desk.shelf(), "--unprotected", "--to", to,
                            "--point", set, "--layout", "full"});
    EXPECT_EQ(ran.exit, 0) << ran.err;
    EXPECT_EQ(difference(expected[set], tree_of(to + desk.source())), "")
        << set << " from the disk";
  }
}

INSTANTIATE_TEST_SUITE_P(
    Packings, ChainTest,
    testing::Values(std::vector<std::string>{},
                    std::vector<std::string>{"--protection", "none", "--part-size", "150 kB"},
                    std::vector<std::string>{"--protection", "none", "--level", "off"}),
    [](const auto& packing) {
      return packing.index == 0 ? "Encrypted" : packing.index == 1 ? "ManyParts" : "Uncompressed";
    });

TEST(RealTrees, AFolderThatNobodyHereWroteComesBackWhole) {
  std::vector<std::string> folders;
  for (const std::string folder : {"/usr/share/doc", "/usr/include"}) {
    if (is_folder(folder)) folders.push_back(folder);
  }
  if (folders.empty() || ::geteuid() != 0) GTEST_SKIP() << "needs root and /usr/share/doc";
  Desk desk;
  std::vector<std::string> words = {"job", "new", "system", "--to", desk.disk(), "--same-disk"};
  for (const auto& folder : folders) words.insert(words.end(), {"--from", folder});
  ASSERT_EQ(desk.kestrum(words).exit, 0);
  std::string file = desk.folder / "home/jobs/system.toml";
  std::string text = read_file(file);
  text.replace(text.find("[source]"), 8, "[source]\nleave_out_litter = false");
  write_file(file, text);
  ASSERT_EQ(desk.kestrum({"run", "system"}).exit, 0);
  std::string to = desk.folder / "out";
  ASSERT_EQ(desk.kestrum({"restore", "system", "--to", to, "--layout", "full"}).exit, 0);
  for (const auto& folder : folders) {
    EXPECT_EQ(difference(tree_of(folder), tree_of(to + folder)), "") << folder;
  }
}

}  // namespace
}  // namespace kestrum::test
