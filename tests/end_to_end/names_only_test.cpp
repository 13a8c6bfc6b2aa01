// Both copies of a ledger are lost: what lies in the tar comes back, and what is not known is said.
#include <gtest/gtest.h>

#include <filesystem>

#include "kestrum/base/file.h"
#include "support/program.h"
#include "support/tree.h"

namespace kestrum::test {
namespace {

namespace fs = std::filesystem;

class NamesOnly : public testing::TestWithParam<const char*> {
 protected:
  void SetUp() override { desk.define({"--protection", GetParam()}); }
  void run() {
    Ran ran = desk.kestrum({"run", "desk"});
    ASSERT_EQ(ran.exit, 0) << ran.err;
  }
  void lose_ledgers(const std::string& set) {
    for (const auto& file : fs::directory_iterator(desk.set_folder(set))) {
      std::string name = file.path().filename();
      if (name.starts_with("ledger")) write_file(file.path(), noise(300, 5));
    }
  }
  // From the folder alone, as a PC that never saw it.
  Ran restore(const std::string& moment_text, const std::string& to) {
    std::vector<std::string> words = {"restore",       "--shelf", desk.shelf(),
                                      "--unprotected", "--to",    other.folder / to};
    if (!moment_text.empty()) words.insert(words.end(), {"--point", moment_text});
    return other.kestrum(words);
  }
  std::string restored(const std::string& file) {
    std::string path = other.folder / file;
    return path_exists(path) ? read_file(path) : "(not there)";
  }
  Desk desk, other{"other-pc"};
};

TEST_P(NamesOnly, ASetInTheMiddleOfAChainAndWhatFollowsIt) {
  const std::string top = desk.source();
  put_file(top + "/stays", "the same");
  put_file(top + "/edited", "old");
  put_file(top + "/deleted", "goes");
  put_file(top + "/moved", "another name");
  run();
  put_file(top + "/edited", "new");
  put_file(top + "/added", "fresh");
  fs::remove(top + "/deleted");
  fs::rename(top + "/moved", top + "/moved-now");
  run();
  put_file(top + "/later", "later");
  put_file(top + "/moved-now", "edited too");
  run();
  lose_ledgers("c1-1");

  Ran unasked = restore("", "unasked");
  EXPECT_EQ(unasked.exit, 4) << "the newest is not what it gave";
  EXPECT_NE(unasked.err.find("c1-0 is taken, the newest whose names are all known"),
            std::string::npos)
      << unasked.err;
  EXPECT_EQ(restored("unasked/edited"), "old");

  Ran middle = restore("c1-1", "middle");
  EXPECT_EQ(middle.exit, 4);
  EXPECT_NE(middle.err.find("what was deleted or moved since c1-0 is not known"), std::string::npos)
      << middle.err;
  EXPECT_EQ(restored("middle/edited"), "new");
  EXPECT_EQ(restored("middle/added"), "fresh");
  EXPECT_EQ(restored("middle/stays"), "the same");
  EXPECT_EQ(restored("middle/deleted"), "goes") << "nobody knows that it was gone";

  EXPECT_EQ(restore("newest", "newest").exit, 4);
  EXPECT_EQ(restored("newest/later"), "later");
  EXPECT_EQ(restored("newest/moved-now"), "edited too");
  EXPECT_EQ(restored("newest/edited"), "new");

  // The PC that made it knows all of it by itself.
  EXPECT_EQ(desk.kestrum({"restore", "desk", "--to", desk.folder / "own"}).exit, 0);
  EXPECT_FALSE(path_exists(desk.folder / "own/deleted"));
}

TEST_P(NamesOnly, AFullSetComesBackWholeAndWhatIsDamagedInItIsNamed) {
  TreeMaker maker(desk.source(), 8);
  maker.grow(40);
  put_file(desk.source() + "/twin-1", noise(70'000, 1));
  put_file(desk.source() + "/twin-2", noise(70'000, 1));
  ASSERT_LE(desk.kestrum({"run", "desk"}).exit, 1);
  lose_ledgers("c1-0");
  Ran ran = restore("", "all");
  EXPECT_EQ(ran.exit, 4);
  EXPECT_NE(ran.err.find("names only"), std::string::npos) << ran.err;
  TreeOptions plain;
  plain.hard_links = plain.attributes = false;
  EXPECT_EQ(difference(tree_of(desk.source(), plain), tree_of(other.folder / "all", plain)), "");
}

INSTANTIATE_TEST_SUITE_P(Protections, NamesOnly, testing::Values("none", "passphrase"),
                         [](const auto& protection) {
                           return std::string(protection.param) == "none" ? "Unprotected"
                                                                          : "Encrypted";
                         });

}  // namespace
}  // namespace kestrum::test
