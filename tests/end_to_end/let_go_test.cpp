// A job lets go of a disk that is lost, and a disk is made unreadable that is given away.
#include <fcntl.h>
#include <gtest/gtest.h>
#include <sys/file.h>

#include <filesystem>

#include "kestrum/base/file.h"
#include "support/program.h"
#include "support/tree.h"

namespace kestrum::test {
namespace {

namespace fs = std::filesystem;

class LetGo : public testing::Test {
 protected:
  void define(const std::vector<std::string>& more = {}) {
    desk.define(more);
    fs::create_directories(second());
    run();
  }
  void define_two() {
    define();
    ASSERT_EQ(desk.kestrum({"job", "set", "desk", "destination.places", second(), "--add"}).exit,
              0);
    Ran ran = desk.kestrum({"shelf", "start", "desk", "--at", second(), "--same-disk"});
    ASSERT_EQ(ran.exit, 0) << ran.err;
    run({"--on", second()});
  }
  void run(const std::vector<std::string>& more = {}) {
    ++runs;
    put_file(desk.source() + "/file-" + std::to_string(runs), noise(5'000, unsigned(runs)));
    std::vector<std::string> words = {"run", "desk"};
    words.insert(words.end(), more.begin(), more.end());
    Ran ran = desk.kestrum(words);
    ASSERT_EQ(ran.exit, 0) << ran.out << ran.err;
  }
  Ran erase(const std::string& place, const std::string& typed = "desk\n") {
    return run_program({KESTRUM_PROGRAM, "shelf", "erase", "desk", "--on", place}, desk.environment,
                       typed);
  }
  std::vector<std::string> places() {
    std::vector<std::string> all;
    Json told = desk.json({"shelf", "list", "desk"});
    for (const Json& shelf : told["shelves"]) {
      all.push_back(shelf["place"]);
    }
    return all;
  }
  std::string second() const { return desk.folder / "second"; }
  std::string second_shelf() const { return second() + "/test-pc/desk"; }
  Desk desk;
  int runs = 0;
};

TEST_F(LetGo, OfALostDiskAndItComesBack) {
  define_two();
  fs::rename(second(), desk.folder / "lost");
  EXPECT_EQ(desk.json({"sets", "desk"})["chains"].size(), 2U);
  Ran ran = desk.kestrum({"shelf", "drop", "desk", "second"});
  EXPECT_EQ(ran.exit, 0) << ran.out << ran.err;
  EXPECT_NE(ran.out.find("its newest set was c1-0"), std::string::npos) << ran.out;
  EXPECT_EQ(places(), std::vector{desk.disk()});
  EXPECT_EQ(desk.json({"sets", "desk"})["chains"].size(), 1U);
  EXPECT_EQ(desk.kestrum({"status", "desk"}).out.find(second()), std::string::npos);
  run();
  // It turns up: not the job's unless it is named again.
  fs::rename(desk.folder / "lost", second());
  Tree there = tree_of(second());
  run();
  EXPECT_EQ(desk.kestrum({"run", "desk", "--on", second()}).exit, 5);
  EXPECT_EQ(difference(there, tree_of(second())), "");
  // Under another name of the job, too.
  ASSERT_EQ(desk.kestrum({"job", "rename", "desk", "other"}).exit, 0);
  ASSERT_EQ(desk.kestrum({"job", "rename", "other", "desk"}).exit, 0);
  ASSERT_EQ(desk.kestrum({"job", "set", "desk", "destination.places", second(), "--add"}).exit, 0);
  run({"--on", second()});
  EXPECT_EQ(desk.json({"sets", "desk", "--on", second()})["chains"][0]["sets"].size(), 2U);
}

TEST_F(LetGo, OfNothingThatIsAllAJobHas) {
  define();
  Ran ran = desk.kestrum({"shelf", "drop", "desk", desk.disk()});
  EXPECT_EQ(ran.exit, 2);
  EXPECT_NE(ran.err.find("no other place"), std::string::npos) << ran.err;
  EXPECT_EQ(desk.kestrum({"shelf", "drop", "desk", "nowhere"}).exit, 2);
  run();
}

TEST_F(LetGo, OfACopy) {
  define();
  ASSERT_EQ(desk.kestrum({"shelf", "copy", "desk", "--to", second(), "--same-disk"}).exit, 0);
  EXPECT_EQ(desk.kestrum({"shelf", "drop", "desk", second()}).exit, 0);
  EXPECT_EQ(desk.json({"shelf", "list", "desk"})["copies"], Json::array());
  EXPECT_TRUE(path_exists(second_shelf() + "/shelf.json"));
}

// The key's own bytes are nowhere on the disk any more, and nobody who has it and the passphrase
// reads anything.
TEST_F(LetGo, ErasesADiskKeysFirst) {
  define_two();
  std::string identity = read_file(second_shelf() + "/keys/identity.age");
  for (const char* typed : {"", "yes\n", "Desk\n"}) {
    EXPECT_NE(erase(second(), typed).exit, 0);
    EXPECT_EQ(read_file(second_shelf() + "/keys/identity.age"), identity);
  }
  // The blocks of the file that held the key, by a way into it that outlives its name.
  Fd file(::open((second_shelf() + "/keys/identity.age").c_str(), O_RDONLY));
  Ran ran = erase(second());
  EXPECT_EQ(ran.exit, 0) << ran.out << ran.err;
  EXPECT_NE(ran.err.find("1 restore point"), std::string::npos) << ran.err;
  std::string left(identity.size(), ' ');
  ASSERT_EQ(::pread(file.get(), left.data(), left.size(), 0), ssize_t(left.size()));
  EXPECT_NE(left, identity);
  EXPECT_EQ(left.find("age-encryption"), std::string::npos);
  EXPECT_TRUE(fs::is_empty(second())) << run_script("find " + second()).out;
  EXPECT_EQ(places(), std::vector{desk.disk()});
  EXPECT_EQ(desk.json({"sets", "desk"})["chains"].size(), 1U);
  run();
  EXPECT_EQ(erase(second()).exit, 5) << "there is nothing any more";
}

TEST_F(LetGo, ErasesWhatIsTheJobsOnlyShelfAndSaysSo) {
  define({"--protection", "none"});
  Ran ran = erase(desk.disk());
  EXPECT_EQ(ran.exit, 0) << ran.err;
  EXPECT_NE(ran.err.find("NO OTHER restore point"), std::string::npos) << ran.err;
  EXPECT_NE(ran.err.find("NOT PROTECTED"), std::string::npos) << ran.err;
  EXPECT_EQ(desk.kestrum({"run", "desk"}).exit, 5);
  EXPECT_EQ(desk.kestrum({"shelf", "start", "desk", "--same-disk"}).exit, 0);
  run();
}

TEST_F(LetGo, ErasesTheRestOfWhatWasCutOff) {
  define_two();
  fs::copy(second(), desk.folder / "before", fs::copy_options::recursive);
  ASSERT_EQ(erase(second()).exit, 0);
  // As after a power cut behind the keys: the sets and the label are there.
  fs::copy(desk.folder / "before", second(), fs::copy_options::recursive);
  fs::remove_all(second_shelf() + "/keys");
  Tree there = tree_of(second());
  ASSERT_EQ(desk.kestrum({"job", "set", "desk", "destination.places", second(), "--add"}).exit, 0);
  EXPECT_EQ(desk.kestrum({"run", "desk", "--on", second()}).exit, 5);
  EXPECT_EQ(difference(there, tree_of(second())), "") << "no set without a key";
  ASSERT_EQ(erase(second()).exit, 0);
  EXPECT_TRUE(fs::is_empty(second())) << run_script("find " + second()).out;
}

TEST_F(LetGo, ErasesNoStrangersFileAndNothingHeldOrRead) {
  define_two();
  put_file(second_shelf() + "/sets/letter.txt", "not of a shelf");
  put_file(second_shelf() + "/photo.jpg", "nor this");
  ASSERT_EQ(desk.kestrum({"job", "set", "desk", "keep.hold", "an audit"}).exit, 0);
  EXPECT_EQ(erase(second()).exit, 2);
  ASSERT_EQ(desk.kestrum({"job", "set", "desk", "keep.hold", ""}).exit, 0);
  {
    std::string seal = second_shelf() + "/sets/" + list_folder(second_shelf() + "/sets")[0];
    Fd reader(::open((seal + "/seal.json").c_str(), O_RDONLY));
    ASSERT_EQ(::flock(reader.get(), LOCK_SH), 0);
    EXPECT_EQ(erase(second()).exit, 8);
    EXPECT_TRUE(path_exists(second_shelf() + "/keys/identity.age"));
    EXPECT_EQ(places().size(), 2U);
  }
  Ran ran = erase(second());
  EXPECT_EQ(ran.exit, 1) << ran.out << ran.err;
  EXPECT_EQ(read_file(second_shelf() + "/photo.jpg"), "nor this");
  EXPECT_EQ(read_file(second_shelf() + "/sets/letter.txt"), "not of a shelf");
  EXPECT_FALSE(path_exists(second_shelf() + "/shelf.json"));
}

// A file of somebody else's, put under the name of a key, is not written over.
TEST_F(LetGo, WritesOverNothingThatHasAnotherName) {
  define_two();
  put_file(desk.folder / "letter.txt", "somebody's letter");
  std::string key = second_shelf() + "/keys/identity-desk.age";
  fs::create_hard_link(desk.folder / "letter.txt", key);
  EXPECT_EQ(erase(second()).exit, 3);
  EXPECT_EQ(read_file(desk.folder / "letter.txt"), "somebody's letter");
  fs::remove(key);
  fs::create_symlink(desk.folder / "letter.txt", key);
  erase(second());
  EXPECT_EQ(read_file(desk.folder / "letter.txt"), "somebody's letter");
}

TEST_F(LetGo, ErasesACopyAndLeavesTheShelf) {
  define();
  ASSERT_EQ(desk.kestrum({"shelf", "copy", "desk", "--to", second(), "--same-disk"}).exit, 0);
  Tree there = tree_of(desk.disk());
  Ran ran = erase(second());
  EXPECT_EQ(ran.exit, 0) << ran.err;
  EXPECT_NE(ran.err.find("it is a copy"), std::string::npos) << ran.err;
  EXPECT_TRUE(fs::is_empty(second()));
  EXPECT_EQ(difference(there, tree_of(desk.disk())), "");
  EXPECT_EQ(desk.json({"shelf", "list", "desk"})["copies"], Json::array());
  run();
}

}  // namespace
}  // namespace kestrum::test
