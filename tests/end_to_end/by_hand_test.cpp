// Runs the very steps that docs/by-hand.md shows: a shelf must open without this program.
#include <fcntl.h>
#include <gtest/gtest.h>
#include <sys/stat.h>
#include <unistd.h>

#include <filesystem>

#include "kestrum/base/file.h"
#include "support/program.h"
#include "support/tree.h"

namespace kestrum::test {
namespace {

namespace fs = std::filesystem;

// The script of a step: the block that begins with "```sh step=NAME".
std::string step(const std::string& name) {
  std::string page = read_file(std::string(KESTRUM_DOCS) + "/by-hand.md");
  std::string mark = "```sh step=" + name + "\n";
  std::size_t begin = page.find(mark);
  EXPECT_NE(begin, std::string::npos) << name;
  begin += mark.size();
  return page.substr(begin, page.find("\n```", begin) - begin + 1);
}

Tree seen(const std::string& folder) {
  return tree_of(folder);
}

class ByHand : public testing::TestWithParam<std::vector<std::string>> {
 protected:
  // What step 3 opens: a full set, by age, zstd and tar alone.
  Tree open_full() {
    EXPECT_EQ(script(step("functions") + step("full"), "c1-0").exit, 0);
    return seen(desk.folder / "opened.full" + desk.source());
  }
  Tree open_chain(const std::string& set) {
    fs::remove_all(desk.folder / "opened");
    Ran ran = script(step("functions") + step("unpack") + step("plan") + step("assemble"), set);
    EXPECT_EQ(ran.exit, 0) << ran.err;
    EXPECT_EQ(ran.err, "");
    return seen(desk.folder / "opened" + desk.source());
  }
  void open_key() {
    Ran ran = run_on_terminal(step("key"), "salt and sand", variables("c1-0"));
    ASSERT_EQ(ran.exit, 0) << ran.out;
  }
  Ran script(const std::string& text, const std::string& set) {
    return run_script(text, variables(set));
  }
  Environment variables(const std::string& set) {
    return {{"SHELF", desk.shelf()},
            {"SET", set},
            {"WORK", desk.folder / "work"},
            {"OUT", desk.folder / "opened"}};
  }
  Desk desk;
};

void touch(const std::string& path, long seconds, long nanos) {
  timespec times[2] = {{seconds, nanos}, {seconds, nanos}};
  ::utimensat(AT_FDCWD, path.c_str(), times, AT_SYMLINK_NOFOLLOW);
}

TEST_P(ByHand, TheSealTellsWhetherItsFilesAreAsTheyWereWritten) {
  desk.define(GetParam());
  put_file(desk.source() + "/file", noise(2'500'000, 3));
  ASSERT_EQ(desk.kestrum({"run", "desk"}).exit, 0);
  EXPECT_EQ(script(step("digests"), "c1-0").out, "");
  std::string blocks = desk.set_folder("c1-0") + "/blocks", good = read_file(blocks);
  put_file(blocks, std::string(good.rbegin(), good.rend()));
  EXPECT_EQ(script(step("digests"), "c1-0").out, blocks + " is not as it was written\n");
}

TEST_P(ByHand, AFullSetAndAChainOpenWithStandardToolsAlone) {
  if (::geteuid() != 0) GTEST_SKIP() << "owners are compared, which only root can set";
  const std::string top = desk.source();
  TreeMaker maker(top, 11);
  maker.grow(70);
  put_file(top + "/moved.txt", "moves to another name\n");
  put_file(top + "/retagged.txt", "gets another mode and time\n");
  put_file(top + "/becomes-folder", "x");
  put_file(top + "/small-twin-1", "the same\n");
  put_file(top + "/small-twin-2", "the same\n", 0600);
  touch(top + "/small-twin-2", 1'600'000'000, 987'654'321);
  put_file(top + "/a", "awkward order");
  put_file(top + "/a-b", "awkward order too");
  put_file(top + "/large", noise(9'000'000, 1));
  fs::create_directories(top + "/becomes-link/below");
  fs::create_directory(top + "/read-only");
  put_file(top + "/read-only/file", "inside");
  ::chmod((top + "/read-only").c_str(), 0555);
  if (::truncate((top + "/large").c_str(), 30'000'000) != 0) FAIL();
  desk.define(GetParam());
  ASSERT_EQ(desk.kestrum({"run", "desk"}).exit, 0);
  std::map<std::string, Tree> expected = {{"c1-0", seen(top)}};

  fs::create_directory(top + "/sub");
  fs::rename(top + "/moved.txt", top + "/sub/moved to here.txt");
  ::chmod((top + "/retagged.txt").c_str(), 0400);
  touch(top + "/retagged.txt", 1'500'000'000, 123'456'789);
  fs::copy_file(top + "/large", top + "/sub/large copy");
  fs::create_hard_link(top + "/a-b", top + "/hard");
  fs::remove(top + "/becomes-folder");
  fs::create_directory(top + "/becomes-folder");
  put_file(top + "/becomes-folder/in it", "y");
  fs::remove_all(top + "/becomes-link");
  fs::create_symlink("a-b", top + "/becomes-link");
  fs::remove(top + "/a");
  fs::create_directory(top + "/a");
  put_file(top + "/a/x", "z");
  ASSERT_EQ(desk.kestrum({"run", "desk"}).exit, 0);
  expected["c1-1"] = seen(top);
  // Large files change a little, one of them with holes.
  put_file(top + "/mail.box",
           noise(2'000'000, 8) + read_file(top + "/large").substr(0, 12'000'000));
  auto edit_large = [&](const std::string& words) {
    for (const auto& entry : fs::recursive_directory_iterator(top)) {
      if (!entry.is_regular_file() || entry.file_size() < 9'000'000) continue;
      Fd fd(::open(entry.path().c_str(), O_WRONLY | O_CLOEXEC));
      EXPECT_EQ(::pwrite(fd.get(), words.data(), words.size(), 4'000'000),
                static_cast<ssize_t>(words.size()));
    }
  };
  edit_large("words where there was noise");
  maker.change(40);
  ASSERT_EQ(desk.kestrum({"run", "desk", "--kind", "differential"}).exit, 0);
  expected["c1-2"] = seen(top);
  maker.change(40);
  edit_large("and again");
  ASSERT_EQ(desk.kestrum({"run", "desk"}).exit, 0);
  expected["c1-3"] = seen(top);

  bool encrypted = is_folder(desk.shelf() + "/keys");
  if (encrypted) {
    open_key();
    Ran signatures = script(step("signature"), "c1-0");
    EXPECT_EQ(signatures.exit, 0) << signatures.err;
    EXPECT_NE(signatures.out.find("Signature and comment signature verified"), std::string::npos);
  } else {
    fs::create_directory(desk.folder / "work");
  }
  for (const char* set : {"c1-2", "c1-3"}) {
    Ran ledger = script(step("functions") + "unpack \"$(folder_of $SET)\"/ledger.jsonl*", set);
    EXPECT_NE(ledger.out.find("\"ranges\":[["), std::string::npos) << set;
  }

  // In the tar of a full set, files of 64 KiB and more with the same content are links.
  Tree full = open_full();
  EXPECT_EQ(full["/small-twin-2"], expected["c1-0"]["/small-twin-2"]);
  for (const auto& [path, line] : expected["c1-0"]) {
    if (line.find(" 70000 bytes ") != std::string::npos) {
      EXPECT_NE(full[path].find(line.substr(line.find(" 70000 bytes "), 70)), std::string::npos)
          << path;
    } else {
      EXPECT_EQ(full[path], line) << path;
    }
  }
  for (const auto& [set, tree] : expected) EXPECT_EQ(difference(tree, open_chain(set)), "") << set;
}

INSTANTIATE_TEST_SUITE_P(
    Packings, ByHand,
    testing::Values(std::vector<std::string>{"--part-size", "2 MB"},
                    std::vector<std::string>{"--protection", "none"},
                    std::vector<std::string>{"--protection", "none", "--level", "off"}),
    [](const auto& packing) {
      return packing.index == 0 ? "Encrypted" : packing.index == 1 ? "Unprotected" : "Plain";
    });

}  // namespace
}  // namespace kestrum::test
