// Shelves read by tests/support/independent_reader.py, which knows docs/format.md and none of this
// program's code: every restore point, and for every set that plain tar with the ledger's dead
// lines tells the truth, however the set came to be.
#include <gtest/gtest.h>
#include <signal.h>
#include <sys/stat.h>
#include <unistd.h>

#include <filesystem>
#include <random>

#include "kestrum/base/file.h"
#include "kestrum/job/edit_key.h"
#include "support/cut_run.h"
#include "support/program.h"
#include "support/tree.h"

namespace kestrum::test {
namespace {

namespace fs = std::filesystem;

class IndependentReader : public testing::Test {
 protected:
  void SetUp() override {
    if (::geteuid() != 0) GTEST_SKIP() << "owners are compared, which only root can set";
  }

  // The tree that it finds at a restore point; what is wrong fails the test.
  Tree read(const std::string& set, const std::string& key = "") {
    std::string out = desk.folder / ("read-" + set);
    std::vector<std::string> words = {"python3", KESTRUM_READER, desk.shelf(), set, out};
    if (!key.empty()) words.push_back(key);
    Ran ran = run_program(words);
    EXPECT_EQ(ran.exit, 0) << set << "\n" << ran.err;
    Tree tree = tree_of(out + desk.source());
    fs::remove_all(out);
    return tree;
  }

  void define(const std::vector<std::string>& more) {
    desk.define(more);
    std::string job = desk.folder / "home/jobs/desk.toml";  // the edits are wild, and meant
    write_file(job, edit_key(read_file(job), "report.suspect_above", std::string("100%")));
  }

  Desk desk;
};

TEST_F(IndependentReader, AgreesOnEveryRestorePoint) {
  define({"--protection", "none", "--part-size", "150 kB"});
  TreeMaker maker(desk.source(), 20);
  maker.grow(400);
  put_file(desk.source() + "/large", noise(3'000'000, 1));
  std::map<std::string, Tree> expected;
  for (const char* kind :
       {"full", "incremental", "differential", "incremental", "full", "differential"}) {
    Json report = desk.json({"run", "desk", "--kind", kind})["runs"][0];
    expected[report["set"]] = tree_of(desk.source());
    maker.change(60);
  }
  for (const auto& [set, tree] : expected) EXPECT_EQ(difference(tree, read(set)), "") << set;
}

TEST_F(IndependentReader, OpensAnEncryptedShelfWithItsKey) {
  define({"--part-size", "150 kB"});
  TreeMaker maker(desk.source(), 21);
  maker.grow(60);
  desk.json({"run", "desk"});
  maker.change(30);
  desk.json({"run", "desk"});
  std::string key = desk.folder / "key.txt";
  Ran ran = run_on_terminal(
      "age -d " + shell_quoted(desk.shelf() + "/keys/identity.age") + " > " + shell_quoted(key),
      "salt and sand");
  ASSERT_EQ(ran.exit, 0) << ran.out;
  EXPECT_EQ(difference(tree_of(desk.source()), read("c1-1", key)), "");
}

// A run that is killed so that its first part ends behind each block of the headers of an entry, or
// of its content; and what became of the file before the run was gone on with.
TEST_F(IndependentReader, TarTellsTheTruthWhereverARunWasCut) {
  constexpr std::uint64_t kBlock = 132'608;  // what a part of 150 kB holds, uncompressed
  // Longer than ustar can carry: a pax header, its records, and the header itself.
  const std::string name(200, 'n');
  define({"--protection", "none", "--level", "off", "--part-size", "150 kB", "--keep-for",
          "3650 days"});
  const char* const fates[] = {"as it was", "deleted", "changed", "a link"};
  int set = 0;
  for (std::uint64_t ahead = 0; ahead <= 4; ++ahead) {
    for (const char* fate : fates) {
      if (ahead % 2 == 0 && fate != std::string("changed")) continue;  // each takes seconds
      SCOPED_TRACE(std::to_string(ahead) + " blocks ahead of the cut, " + fate);
      fs::remove_all(desk.source());
      fs::create_directories(desk.source() + "/d");
      put_file(desk.source() + "/d/" + name, noise(3000, 3));
      put_file(desk.source() + "/z", noise(200'000, 4));
      // Folders above the source have entries too; how long they are is seen in a run without a
      // cut.
      put_file(desk.source() + "/a", "");
      Json report = desk.json({"run", "desk", "--kind", "full"})["runs"][0];
      ++set;
      std::string ledger = read_file(desk.set_folder(report["set"]) + "/ledger.jsonl");
      std::size_t line = ledger.find(name), offset = ledger.find("\"offset\":", line) + 9;
      std::uint64_t begins = std::stoull(ledger.substr(offset));
      std::uint64_t size = kBlock - ahead * 512 - begins;
      put_file(desk.source() + "/a", noise(static_cast<std::size_t>(size), 5));
      // A full set is due to the next run as well, if it is asked for it.
      cut_run(desk, "60 kB/s", 1, SIGKILL, {"--kind", "full", "--quiet"});
      std::string path = desk.source() + "/d/" + name;
      if (fate == std::string("deleted")) fs::remove(path);
      if (fate == std::string("changed")) put_file(path, noise(2000, 6));
      if (fate == std::string("a link")) {
        fs::remove(path);
        fs::create_symlink("elsewhere", path);
      }
      report = desk.json({"run", "desk", "--kind", "full"})["runs"][0];
      EXPECT_TRUE(report["continued"].get<bool>());
      EXPECT_EQ(difference(tree_of(desk.source()), read(report["set"])), "");
      ++set;
    }
  }
  EXPECT_EQ(set, 22);
}

TEST_F(IndependentReader, TarTellsTheTruthAfterKillsAndChanges) {
  std::mt19937 random(14);
  define({"--protection", "none", "--part-size", "150 kB", "--keep-for", "3650 days"});
  TreeMaker maker(desk.source(), 22);
  maker.grow(80);
  useconds_t longest = 150'000;
  for (int round = 0; round < 8; ++round) {
    for (int i = 0; i < 6; ++i) {
      fs::remove_all(desk.source() + "/big-" + std::to_string(i));
      put_file(desk.source() + "/big-" + std::to_string(i),
               noise(100'000 + random() % 200'000, random()));
    }
    for (int kill = 0; kill < 4; ++kill) {
      Background run({KESTRUM_PROGRAM, "run", "desk", "--quiet"}, desk.environment);
      ::usleep(static_cast<useconds_t>(random() % longest));
      run.signal(SIGKILL);
      run.wait();
      maker.change(4);
      put_file(desk.source() + "/big-" + std::to_string(random() % 6),
               noise(100'000 + random() % 200'000, random()));
      fs::remove_all(desk.source() + "/big-" + std::to_string(random() % 6));
    }
    Json report = desk.json({"run", "desk"})["runs"][0];
    EXPECT_EQ(difference(tree_of(desk.source()), read(report["set"])), "") << report["set"];
  }
}

// A file that grows and shrinks all the while: whatever is stored, the ledger and tar agree on it.
TEST_F(IndependentReader, TarTellsTheTruthOfFilesThatNeverHoldStill) {
  define({"--protection", "none", "--part-size", "30 MB"});
  const std::string restless = desk.source() + "/restless";
  put_file(restless, noise(12'000'000, 1));
  put_file(desk.source() + "/zz", noise(1'000'000, 2));
  Background writer({"sh", "-c",
                     "while :; do printf x >> " + shell_quoted(restless) + "; truncate -s -3 " +
                         shell_quoted(restless) + "; done"},
                    {});
  for (int i = 0; i < 4; ++i) {
    // Where the writer gets no turn while it is read, the file holds still: done, without warnings.
    Ran ran = desk.kestrum({"run", "desk", "--json"});
    ASSERT_TRUE(ran.exit == 0 || ran.exit == 1) << ran.out << ran.err;
    Json report = Json::parse(ran.out)["runs"][0];
    // Each attempt stores what changed since the one before, and not all of it again.
    EXPECT_LT(report["bytes"]["copied"].get<std::uint64_t>(), i == 0 ? 14'000'000U : 2'000'000U);
    Tree tree = read(report["set"]);
    EXPECT_TRUE(tree.contains("/zz"));
  }
  writer.signal(SIGKILL);
  writer.wait();
}

}  // namespace
}  // namespace kestrum::test
