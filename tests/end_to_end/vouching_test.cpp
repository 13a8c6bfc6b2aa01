// Shelves that were set back, and sets by a PC that may write there no more, as the program finds
// them.
#include <gtest/gtest.h>

#include <filesystem>

#include "kestrum/base/file.h"
#include "support/program.h"
#include "support/tree.h"

namespace kestrum::test {
namespace {

namespace fs = std::filesystem;

void copy_all(const std::string& from, const std::string& to) {
  fs::remove_all(to);
  fs::create_directories(fs::path(to).parent_path());
  fs::copy(from, to, fs::copy_options::recursive | fs::copy_options::copy_symlinks);
}

class SetBack : public testing::Test {
 protected:
  void run(Desk& desk, const std::string& content) {
    put_file(desk.source() + "/file", content);
    Ran ran = desk.kestrum({"run", "desk"});
    ASSERT_LE(ran.exit, 1) << ran.err;
  }
  bool has_problem(const Json& claimed, const std::string& words) {
    for (const Json& problem : claimed["problems"]) {
      if (problem.get<std::string>().find(words) != std::string::npos) return true;
    }
    return false;
  }
  Desk old_pc, new_pc{"new-pc"};
};

TEST_F(SetBack, AShelfThatIsCutBackShowsToAPcThatNeverSawIt) {
  old_pc.define();
  for (const char* content : {"one", "two", "three"}) run(old_pc, content);
  std::string newest = old_pc.set_folder("c1-2");
  Ran sound = old_pc.kestrum({"verify", "--shelf", old_pc.shelf()});
  EXPECT_EQ(sound.exit, 0) << sound.out << sound.err;
  fs::remove_all(newest);

  Ran verify = new_pc.kestrum({"verify", "--shelf", old_pc.shelf(), "--contents"});
  EXPECT_EQ(verify.exit, 4);
  EXPECT_NE(verify.out.find("names c1-2 as its newest set, which is not here"), std::string::npos)
      << verify.out;
  Json claimed = new_pc.json({"shelf", "claim", old_pc.shelf()}, 4);
  EXPECT_TRUE(has_problem(claimed, "older state of itself")) << claimed.dump(1);
  put_file(new_pc.source() + "/file", "four");
  Json ran = new_pc.json({"run", "desk"}, 1)["runs"][0];
  EXPECT_EQ(ran["kind"], "full");
  EXPECT_EQ(ran["pruned"], Json::array());
  EXPECT_EQ(new_pc.json({"run", "desk"})["runs"][0]["kind"], "incremental") << "told once";
  EXPECT_EQ(new_pc.kestrum({"verify", "desk", "--contents"}).exit, 0);
}

// The whole shelf, head and all, is an older copy of itself: only the job's other disk can tell.
TEST_F(SetBack, AnOlderCopyOfAWholeShelfIsToldByTheOtherDisk) {
  std::string other = old_pc.folder / "other-disk";
  fs::create_directories(other);
  old_pc.define({"--to", other});
  auto run_on = [&](const std::string& place, const std::string& content) {
    put_file(old_pc.source() + "/file", content);
    Ran ran = old_pc.kestrum({"run", "desk", "--on", place});
    ASSERT_LE(ran.exit, 1) << ran.err;
  };
  run_on(old_pc.disk(), "one");
  copy_all(old_pc.shelf(), old_pc.folder / "older");
  run_on(old_pc.disk(), "two");
  run_on(other, "three");
  copy_all(old_pc.folder / "older", old_pc.shelf());

  EXPECT_EQ(new_pc.json({"shelf", "claim", old_pc.shelf(), "--look-only"})["problems"],
            Json::array())
      << "by itself it is whole";
  Json first = new_pc.json({"shelf", "claim", other + "/test-pc/desk", "--as", "one"});
  EXPECT_EQ(first["problems"], Json::array());
  Json second = new_pc.json({"shelf", "claim", old_pc.shelf(), "--as", "two"}, 4);
  EXPECT_TRUE(has_problem(second, "knew a newer set of it")) << second.dump(1);
  put_file(new_pc.source() + "/file", "four");
  Json ran = new_pc.json({"run", "two"}, 1)["runs"][0];
  EXPECT_EQ(ran["kind"], "full");
  EXPECT_EQ(new_pc.json({"run", "two"})["runs"][0]["kind"], "incremental");
}

// A stolen PC still has its signing key.
class Retired : public SetBack {
 protected:
  // What the old PC makes on a copy of the shelf lands on the shelf itself.
  void forge(const std::string& set) {
    copy_all(old_pc.shelf(), old_pc.folder / "kept");
    copy_all(old_pc.folder / "before", old_pc.shelf());
    run(old_pc, "forged");
    std::string forged = old_pc.set_folder(set), name = fs::path(forged).filename();
    copy_all(forged, old_pc.folder / "forged");
    copy_all(old_pc.folder / "kept", old_pc.shelf());
    copy_all(old_pc.folder / "forged", old_pc.shelf() + "/sets/" + name);
  }
  void expect_not_taken(Desk& desk, const std::string& set) {
    Ran verify = desk.kestrum({"verify", "desk"});
    EXPECT_EQ(verify.exit, 4);
    EXPECT_NE(verify.out.find("may sign no more"), std::string::npos) << verify.out;
    std::string to = desk.folder / "back";
    desk.kestrum({"restore", "--shelf", old_pc.shelf(), "--to", to});
    Ran grep = run_program({"grep", "-r", "forged", to});
    EXPECT_EQ(grep.exit, 1) << set << ": " << grep.out;
    EXPECT_EQ(read_file(to + "/file"), "two");
  }
};

TEST_F(Retired, ThePcThatAShelfWasTakenFromCannotAddToIt) {
  old_pc.define();
  run(old_pc, "one");
  run(old_pc, "two");
  copy_all(old_pc.shelf(), old_pc.folder / "before");
  new_pc.environment["KESTRUM_HOST"] = "new-pc";
  EXPECT_EQ(new_pc.json({"shelf", "claim", old_pc.shelf()})["problems"], Json::array());
  EXPECT_EQ(new_pc.kestrum({"verify", "desk", "--contents"}).exit, 0)
      << "label, job copy and head are signed anew";
  forge("c1-2");
  expect_not_taken(new_pc, "c1-2");
}

// What it signed in between does not count, though the shelf is its own once more.
TEST_F(Retired, ThePcThatTakesItsShelfBackSignsWithAnotherKey) {
  old_pc.define();
  run(old_pc, "one");
  run(old_pc, "two");
  copy_all(old_pc.shelf(), old_pc.folder / "before");
  EXPECT_EQ(new_pc.json({"shelf", "claim", old_pc.shelf()})["problems"], Json::array());
  forge("c1-2");
  Json back = old_pc.json({"shelf", "claim", old_pc.shelf(), "--as", "back"}, 4);
  EXPECT_TRUE(has_problem(back, "may sign no more")) << back.dump(1);
  Ran verify = old_pc.kestrum({"verify", "back"});
  EXPECT_EQ(verify.exit, 4);
  EXPECT_NE(verify.out.find("c1-2 seal.json"), std::string::npos) << verify.out;
  put_file(old_pc.source() + "/file", "three");
  EXPECT_LE(old_pc.kestrum({"run", "back"}).exit, 1);
  EXPECT_EQ(old_pc.json({"verify", "back"}, 4)["restorable"].size(), 3U);
}

// Junk where heads and lists should be is no reason not to read, nor to make no sets.
TEST_F(Retired, JunkInThePlaceOfHeadsAndListsIsToldAndWorkGoesOn) {
  old_pc.define();
  run(old_pc, "one");
  fs::remove_all(old_pc.shelf() + "/heads");
  put_file(old_pc.shelf() + "/heads", "no folder");
  put_file(old_pc.shelf() + "/retired", "no folder");
  put_file(old_pc.source() + "/file", "two");
  Ran ran = old_pc.kestrum({"run", "desk"});
  EXPECT_EQ(ran.exit, 1) << ran.err;
  EXPECT_NE((ran.out + ran.err).find("head cannot be written"), std::string::npos) << ran.err;
  std::string to = new_pc.folder / "back";
  EXPECT_EQ(new_pc.kestrum({"restore", "--shelf", old_pc.shelf(), "--to", to}).exit, 0);
  EXPECT_EQ(read_file(to + "/file"), "two");
  fs::remove(old_pc.shelf() + "/heads");
  EXPECT_EQ(old_pc.kestrum({"run", "desk"}).exit, 0);
  EXPECT_EQ(new_pc.kestrum({"verify", "--shelf", old_pc.shelf()}).exit, 0);
}

TEST_F(Retired, ANewKeyShutsOutTheOldOneAsASignerToo) {
  old_pc.define();
  run(old_pc, "one");
  run(old_pc, "two");
  copy_all(old_pc.shelf(), old_pc.folder / "before");
  std::string state = old_pc.folder / "home/state";
  copy_all(state, old_pc.folder / "state-before");
  ASSERT_EQ(old_pc.kestrum({"passphrase", "desk", "--new-key"}).exit, 0);
  Ran verify = old_pc.kestrum({"verify", "desk", "--contents"});
  EXPECT_EQ(verify.exit, 0) << verify.out << verify.err;
  copy_all(state, old_pc.folder / "state-after");
  copy_all(old_pc.folder / "state-before", state);
  forge("c1-2");
  copy_all(old_pc.folder / "state-after", state);
  expect_not_taken(old_pc, "c1-2");
}

TEST_F(Retired, ADiskThatWasAwayWhenTheKeyChangedIsTold) {
  std::string other = old_pc.folder / "other-disk", away = old_pc.folder / "in-a-drawer";
  fs::create_directories(other);
  old_pc.define({"--to", other});
  put_file(old_pc.source() + "/file", "one");
  for (const std::string& place : {old_pc.disk(), other}) {
    ASSERT_EQ(old_pc.kestrum({"run", "desk", "--on", place}).exit, 0);
  }
  fs::rename(other, away);
  EXPECT_EQ(old_pc.kestrum({"passphrase", "desk", "--new-key"}).exit, 1);
  const std::string told = "was away when the keys were changed: kestrum passphrase desk --new-key";
  for (int i = 0; i < 2; ++i) {
    Ran ran = old_pc.kestrum({"run", "desk", "--on", old_pc.disk()});
    EXPECT_EQ(ran.exit, 0);
    EXPECT_NE((ran.out + ran.err).find(told), std::string::npos) << ran.out << ran.err;
  }
  fs::rename(away, other);
  EXPECT_EQ(old_pc.kestrum({"passphrase", "desk", "--new-key"}).exit, 0);
  Ran ran = old_pc.kestrum({"run", "desk", "--on", other});
  EXPECT_EQ((ran.out + ran.err).find(told), std::string::npos) << ran.out << ran.err;
}

// The digests of each MiB: lost ones are worked out anew, and they tell where a part is damaged.
TEST(Blocks, TellWhereAPartIsDamagedAndAreMadeAnew) {
  Desk desk;
  desk.define({"--level", "off"});
  put_file(desk.source() + "/large", noise(3'500'000, 4));
  ASSERT_EQ(desk.kestrum({"run", "desk"}).exit, 0);
  std::string set = desk.set_folder("c1-0"), blocks = set + "/blocks";
  std::string good = read_file(blocks);
  fs::remove(blocks);
  EXPECT_EQ(desk.kestrum({"run", "desk"}).exit, 1) << "a run says that it is missing";
  Ran verify = desk.kestrum({"verify", "desk"});
  EXPECT_EQ(verify.exit, 4);
  EXPECT_NE(verify.out.find("worked out anew"), std::string::npos) << verify.out;
  EXPECT_EQ(read_file(blocks), good);
  EXPECT_EQ(desk.kestrum({"verify", "desk"}).exit, 0);

  std::string part = set + "/part-000001.tar.age", content = read_file(part);
  content[2'500'000] = static_cast<char>(content[2'500'000] ^ 1);
  write_file(part, content);
  verify = desk.kestrum({"verify", "desk"});
  EXPECT_EQ(verify.exit, 4);
  EXPECT_NE(verify.out.find("1 of 4 MiB, the first at 2 MiB"), std::string::npos) << verify.out;
}

}  // namespace
}  // namespace kestrum::test
