// A new PC that has only the disk and the passphrase; passphrases that change.
#include <gtest/gtest.h>

#include <filesystem>

#include "kestrum/base/file.h"
#include "support/program.h"
#include "support/tree.h"

namespace kestrum::test {
namespace {

namespace fs = std::filesystem;

class NewPc : public testing::TestWithParam<const char*> {
 protected:
  void SetUp() override {
    old_pc.define({"--protection", GetParam(), "--when", "every day at 21:00"});
    TreeMaker(old_pc.source(), 3).grow(30);
    ASSERT_LE(old_pc.kestrum({"run", "desk"}).exit, 1);
    put_file(old_pc.source() + "/second", "2");
    ASSERT_LE(old_pc.kestrum({"run", "desk"}).exit, 1);
    new_pc.environment["KESTRUM_HOST"] = "new-pc";
    if (std::string(GetParam()) == "none") new_pc.environment["KESTRUM_PASSPHRASE"] = "";
  }
  std::string mapping() { return old_pc.source() + "=" + new_pc.source(); }
  Desk old_pc, new_pc{"new-pc"};
};

TEST_P(NewPc, TakesOverTheShelfAndGoesOnWithItsChain) {
  Json look = new_pc.json({"shelf", "claim", old_pc.shelf(), "--look-only"});
  EXPECT_EQ(look["sets"], 2);
  EXPECT_EQ(look["claimed"], false);
  EXPECT_EQ(new_pc.json({"job", "list"})["jobs"].size(), 0u);
  ASSERT_LE(old_pc.kestrum({"run", "desk"}).exit, 1) << "nothing was changed on the shelf";

  fs::remove_all(new_pc.source());
  Json claimed = new_pc.json({"shelf", "claim", old_pc.shelf(), "--map", mapping()});
  EXPECT_EQ(claimed["job"], "desk");
  EXPECT_EQ(claimed["sets"], 3);
  EXPECT_EQ(claimed["problems"], Json::array());
  EXPECT_EQ(claimed["missing"], Json{new_pc.source()}) << "not here yet";
  EXPECT_EQ(new_pc.json({"status", "desk"})["jobs"][0]["paused"], true);

  Ran restored = new_pc.kestrum({"restore", "desk", "--in-place", "--everything"});
  EXPECT_EQ(restored.exit, 0);
  EXPECT_NE(restored.err.find("goes to " + new_pc.source()), std::string::npos) << restored.err;
  EXPECT_EQ(difference(tree_of(old_pc.source()), tree_of(new_pc.source())), "");

  put_file(new_pc.source() + "/third", "3");
  Json made = new_pc.json({"run", "desk"})["runs"][0];
  EXPECT_EQ(made["kind"], "incremental") << "the chain goes on: " << made.dump(1);
  EXPECT_EQ(made["set"], "c1-3");
  EXPECT_LT(made["bytes"]["copied"].get<int>(), 100) << "its content is known";
  EXPECT_EQ(new_pc.kestrum({"verify", "desk", "--contents"}).exit, 0);
  fs::create_directories(new_pc.folder / "all");
  EXPECT_EQ(new_pc.kestrum({"restore", "desk", "--to", new_pc.folder / "all"}).exit, 0);
  EXPECT_EQ(difference(tree_of(new_pc.source()), tree_of(new_pc.folder / "all")), "");

  Ran told = old_pc.kestrum({"run", "desk"});
  EXPECT_EQ(told.exit, 5);
  EXPECT_NE(told.err.find("taken over"), std::string::npos) << told.err;
  // What the old PC had made it can still read, and what came after with the passphrase.
  Tree before = tree_of(old_pc.shelf());
  fs::create_directories(old_pc.folder / "back");
  told = old_pc.kestrum({"restore", "desk", "second", "--to", old_pc.folder / "back"});
  // Without a passphrase nothing tells it who signs there now, and it says so.
  EXPECT_EQ(told.exit, std::string(GetParam()) == "none" ? 4 : 0) << told.err;
  EXPECT_NE(told.err.find("it is read, and not written to"), std::string::npos) << told.err;
  EXPECT_EQ(read_file(old_pc.folder / "back/second"), "2");
  EXPECT_EQ(old_pc.kestrum({"look", "desk"}).exit, 0);
  EXPECT_EQ(old_pc.kestrum({"trace", "desk", "second"}).exit, 0);
  EXPECT_LE(old_pc.kestrum({"verify", "desk", "--contents"}).exit, 4);
  EXPECT_EQ(old_pc.kestrum({"prune", "desk"}).exit, 5);
  old_pc.environment["KESTRUM_NEXT_PASSPHRASE"] = "sand and salt";
  EXPECT_NE(old_pc.kestrum({"passphrase", "desk"}).exit, 0);
  old_pc.environment["KESTRUM_NEXT_PASSPHRASE"] = "";
  EXPECT_EQ(difference(before, tree_of(old_pc.shelf())), "");
}

// What was made elsewhere goes to where it lies here; what was made here stays where it was.
TEST_P(NewPc, GoesByTheMapOfTheClaimInPlace) {
  ASSERT_EQ(new_pc.kestrum({"shelf", "claim", old_pc.shelf(), "--map", mapping()}).exit, 0);
  std::string here = new_pc.source() + "/second", there = old_pc.source() + "/second";
  fs::remove(there);
  auto back = [&](const std::vector<std::string>& more) {
    fs::remove(here);
    std::vector<std::string> words = {"restore", "desk"};
    words.insert(words.end(), more.begin(), more.end());
    Ran ran = new_pc.kestrum(words);
    EXPECT_EQ(ran.exit, 0) << ran.err;
    EXPECT_FALSE(fs::exists(there)) << ran.out;
    return fs::exists(here) ? read_file(here) : "nothing";
  };
  EXPECT_EQ(back({"second", "--in-place"}), "2");
  EXPECT_EQ(back({there, "--in-place"}), "2") << "as it was called there";
  EXPECT_EQ(back({here, "--in-place"}), "2") << "as it is called here";
  EXPECT_EQ(back({here, "--in-place", "--point", "last-seen"}), "2");
  EXPECT_EQ(back({"--missing", "--in-place"}), "2");
  EXPECT_EQ(back({new_pc.source(), "--missing", "--in-place"}), "2");
  EXPECT_EQ(back({new_pc.source(), "--in-place", "--mirror"}), "2");
  EXPECT_EQ(new_pc.kestrum({"look", "desk", new_pc.source()}).exit, 0);
  std::string aside = new_pc.folder / "aside";
  EXPECT_EQ(back({there, "--to", aside}), "nothing");
  EXPECT_EQ(read_file(aside + "/second"), "2") << "a folder that is named takes no map";
  std::string third = new_pc.folder / "third";
  EXPECT_EQ(back({there, "--in-place", "--map", old_pc.source() + "=" + third}), "nothing");
  EXPECT_EQ(read_file(third + "/second"), "2") << "what is asked for goes before the claim's";

  // A mirror moves aside what is not in the restore point, where that lies here.
  Json mirrored = new_pc.json({"restore", "desk", new_pc.source(), "--in-place", "--mirror"});
  put_file(new_pc.source() + "/more", "more");
  mirrored = new_pc.json({"restore", "desk", new_pc.source(), "--in-place", "--mirror"});
  EXPECT_FALSE(fs::exists(new_pc.source() + "/more"));
  EXPECT_EQ(read_file(here), "2");

  put_file(here, "3, made here");
  ASSERT_LE(new_pc.kestrum({"run", "desk"}).exit, 1);
  EXPECT_EQ(back({"second", "--in-place"}), "3, made here");
  EXPECT_EQ(back({"--missing", "--in-place"}), "3, made here");
  EXPECT_EQ(back({there, "--in-place", "--point", "c1-1"}), "2");
  EXPECT_EQ(back({here, "--in-place", "--point", "last-seen"}), "3, made here");
}

TEST_P(NewPc, ReadsStraightFromTheDiskWithoutClaiming) {
  std::string to = new_pc.folder / "back";
  EXPECT_EQ(new_pc.kestrum({"restore", "--shelf", old_pc.shelf(), "second", "--to", to}).exit, 0);
  EXPECT_EQ(read_file(to + "/second"), "2");
  EXPECT_EQ(new_pc.json({"trace", "--shelf", old_pc.shelf(), "second"})["versions"].size(), 1u);
  Json compared =
      new_pc.json({"compare", "--shelf", old_pc.shelf(), "--point", "c1-0", "--with", "c1-1"}, 1);
  EXPECT_EQ(compared["new"].size(), 1u);
  EXPECT_EQ(new_pc.kestrum({"compare", "--shelf", old_pc.shelf()}).exit, 2) << "with what?";
}

TEST_P(NewPc, TakesWhatItCanOfADamagedShelf) {
  put_file(old_pc.set_folder("c1-1") + "/seal.json", "nonsense");
  put_file(old_pc.shelf() + (std::string(GetParam()) == "none" ? "/job.toml" : "/job.toml.age"),
           std::string(GetParam()) == "none" ? "not = [toml" : "nonsense");
  Json claimed = new_pc.json({"shelf", "claim", old_pc.shelf(), "--as", "rescued"}, 4);
  EXPECT_EQ(claimed["sets"], 1);
  EXPECT_GE(claimed["problems"].size(), 1u);
  EXPECT_EQ(
      new_pc.kestrum({"restore", "rescued", "--to", new_pc.folder / "all", "--point", "c1-0"}).exit,
      0);
}

TEST_P(NewPc, CommandsOfTheJobAreShownAndOff) {
  std::string job = old_pc.folder / "home/jobs/desk.toml";
  put_file(job, read_file(job) +
                    "\n# a comment that stays\n[before_run]\ncommand = \"touch /tmp/never\"\n");
  ASSERT_LE(old_pc.kestrum({"run", "desk"}).exit, 1);
  Ran ran = new_pc.kestrum({"shelf", "claim", old_pc.shelf()});
  EXPECT_EQ(ran.exit, 0) << ran.err;
  EXPECT_NE(ran.out.find("touch /tmp/never  (off)"), std::string::npos) << ran.out;
  std::string text = read_file(new_pc.folder / "home/jobs/desk.toml");
  EXPECT_NE(text.find("command = \"\""), std::string::npos) << text;
  EXPECT_NE(text.find("# a comment that stays"), std::string::npos);
  EXPECT_EQ(new_pc.kestrum({"shelf", "claim", old_pc.shelf()}).exit, 2) << "it is ours already";
}

INSTANTIATE_TEST_SUITE_P(Protections, NewPc, testing::Values("passphrase", "none"));

TEST(Passphrases, AreChangedWithoutTouchingASet) {
  Desk desk;
  desk.define();
  put_file(desk.source() + "/file", "x");
  ASSERT_EQ(desk.kestrum({"run", "desk"}).exit, 0);
  std::string part = desk.set_folder("c1-0") + "/part-000001.tar.zst.age", before = read_file(part);
  put_file(desk.folder / "new", "a new passphrase\n", 0600);
  put_file(desk.folder / "wrong", "not it\n", 0600);
  EXPECT_EQ(desk.kestrum({"passphrase", "desk", "--next-passphrase-from", desk.folder / "new",
                          "--passphrase-from", desk.folder / "wrong"})
                .exit,
            7);
  EXPECT_EQ(desk.kestrum({"passphrase", "desk"}).exit, 7) << "which new one?";
  Ran ran = desk.kestrum({"passphrase", "desk", "--next-passphrase-from", desk.folder / "new"});
  EXPECT_EQ(ran.exit, 0) << ran.err;
  EXPECT_NE(ran.out.find("can still"), std::string::npos) << "it says what it does not do";
  EXPECT_EQ(read_file(part), before);
  EXPECT_EQ(desk.kestrum({"passphrase", "desk", "--try"}).exit, 7) << "the old one is no more";
  EXPECT_EQ(
      desk.kestrum({"passphrase", "desk", "--try", "--passphrase-from", desk.folder / "new"}).exit,
      0);
  // Every copy opens with it: the shelf's two and this PC's.
  for (const char* lost : {"keys/identity.age", "keys/identity-copy.age"}) {
    fs::remove(desk.shelf() + "/" + lost);
    EXPECT_EQ(
        desk.kestrum({"passphrase", "desk", "--try", "--passphrase-from", desk.folder / "new"})
            .exit,
        0)
        << lost;
  }
  EXPECT_EQ(desk.kestrum({"restore", "desk", "--to", desk.folder / "back", "--passphrase-from",
                          desk.folder / "new"})
                .exit,
            0);
}

TEST(Passphrases, AChangeLetsTheSupportDesksKeyInToOldSetsToo) {
  if (!have_program("age-keygen")) GTEST_SKIP() << "no age-keygen here";
  Desk desk;
  desk.define();
  put_file(desk.source() + "/file", "x");
  ASSERT_EQ(desk.kestrum({"run", "desk"}).exit, 0);
  std::string key = desk.folder / "desk.key";
  ASSERT_EQ(run_program({"age-keygen", "-o", key}).exit, 0);
  std::string text = read_file(key);
  std::size_t at = text.find("age1");
  std::string recipient = text.substr(at, text.find('\n', at) - at);
  std::string job = desk.folder / "home/jobs/desk.toml";
  put_file(job, read_file(job) + "\n[protection]\nalso_for = [\"" + recipient + "\"]\n");
  put_file(desk.folder / "same", "salt and sand\n", 0600);
  ASSERT_EQ(
      desk.kestrum({"passphrase", "desk", "--next-passphrase-from", desk.folder / "same"}).exit, 0);
  desk.environment["KESTRUM_PASSPHRASE"] = "";
  EXPECT_EQ(desk.kestrum({"restore", "desk", "--to", desk.folder / "back", "--key-file", key}).exit,
            0);
  EXPECT_EQ(read_file(desk.folder / "back/file"), "x");
}

TEST(Passphrases, TheSupportDesksKeyOpensWhatANewPcMakes) {
  if (!have_program("age-keygen")) GTEST_SKIP() << "no age-keygen here";
  Desk desk;
  std::string key = desk.folder / "desk.key";
  ASSERT_EQ(run_program({"age-keygen", "-o", key}).exit, 0);
  std::string text = read_file(key);
  std::size_t at = text.find("age1");
  desk.define({"--also-for", text.substr(at, text.find('\n', at) - at)});
  put_file(desk.source() + "/file", "old");
  ASSERT_EQ(desk.kestrum({"run", "desk"}).exit, 0);
  fs::remove_all(desk.folder / "home");  // a new PC
  ASSERT_EQ(desk.kestrum({"shelf", "claim", desk.shelf()}).exit, 0);
  put_file(desk.source() + "/file", "by the new PC");
  ASSERT_EQ(desk.kestrum({"run", "desk"}).exit, 0);
  desk.environment["KESTRUM_PASSPHRASE"] = "";
  fs::remove_all(desk.folder / "home");
  Ran ran = desk.kestrum(
      {"restore", "--shelf", desk.shelf(), "--to", desk.folder / "back", "--key-file", key});
  EXPECT_EQ(ran.exit, 0) << ran.err;
  EXPECT_EQ(read_file(desk.folder / "back/file"), "by the new PC");
}

TEST(Passphrases, ANewKeyShutsTheOldOneOutOfSetsToCome) {
  Desk desk;
  desk.define();
  put_file(desk.source() + "/file", "old");
  ASSERT_EQ(desk.kestrum({"run", "desk"}).exit, 0);
  std::string label = read_file(desk.shelf() + "/shelf.json");
  EXPECT_EQ(desk.kestrum({"passphrase", "desk", "--new-key"}).exit, 0);
  EXPECT_NE(read_file(desk.shelf() + "/shelf.json"), label) << "another recipient";
  put_file(desk.source() + "/file", "new");
  Json made = desk.json({"run", "desk"})["runs"][0];
  EXPECT_EQ(made["kind"], "full");
  put_file(desk.source() + "/file", "newer");
  EXPECT_EQ(desk.json({"run", "desk"})["runs"][0]["kind"], "incremental");
  for (auto [set, text] : {std::pair{"c1-0", "old"}, {"c2-0", "new"}, {"c2-1", "newer"}}) {
    std::string to = desk.folder / set;
    EXPECT_EQ(desk.kestrum({"restore", "desk", "--point", set, "--to", to}).exit, 0);
    EXPECT_EQ(read_file(to + "/file"), text);
  }
  EXPECT_EQ(desk.kestrum({"verify", "desk", "--contents"}).exit, 0);
}

// Old copies of the keys on the disk, of before the last new key; the passphrase is the same.
class OldKeysPutBack : public testing::Test {
 protected:
  void SetUp() override {
    desk.define();
    put_file(desk.source() + "/file", "old");
    ASSERT_EQ(desk.kestrum({"run", "desk"}).exit, 0);
    fs::copy(desk.shelf() + "/keys", desk.folder / "old-keys");
    ASSERT_EQ(desk.kestrum({"passphrase", "desk", "--new-key"}).exit, 0);
    put_file(desk.source() + "/file", "new");
    ASSERT_EQ(desk.kestrum({"run", "desk"}).exit, 0);
    fs::remove_all(desk.shelf() + "/keys");
    fs::copy(desk.folder / "old-keys", desk.shelf() + "/keys");
  }
  std::string file_of(const std::string& set, const std::vector<std::string>& from) {
    std::string to = desk.folder / ("back-" + set);
    std::vector<std::string> words = {"restore", "--point", set, "--to", to};
    words.insert(words.begin() + 1, from.begin(), from.end());
    Ran ran = desk.kestrum(words);
    return ran.exit == 0 ? read_file(to + "/file") : ran.err;
  }
  void lose_own_copy() {
    for (const auto& name : list_folder(desk.folder / "home/state")) {
      std::string copy = desk.folder / ("home/state/" + name + "/identity.age");
      if (path_exists(copy)) fs::remove(copy);
    }
  }
  std::string keys() {
    return read_file(desk.shelf() + "/keys/identity.age") +
           read_file(desk.shelf() + "/keys/identity-copy.age");
  }
  Desk desk;
};

TEST_F(OldKeysPutBack, AreBroughtUpToDateByFollowingOurAdvice) {
  EXPECT_EQ(desk.kestrum({"passphrase", "desk", "--try"}).exit, 0) << "this PC's copy has both";
  Ran verify = desk.kestrum({"verify", "desk"});
  EXPECT_EQ(verify.exit, 4);
  ASSERT_NE(verify.out.find("kestrum passphrase desk"), std::string::npos) << verify.out;
  desk.environment["KESTRUM_NEXT_PASSPHRASE"] = "another made-up one";
  ASSERT_EQ(desk.kestrum({"passphrase", "desk"}).exit, 0);
  desk.environment["KESTRUM_PASSPHRASE"] = "another made-up one";
  EXPECT_EQ(desk.kestrum({"verify", "desk", "--contents"}).exit, 0);
  lose_own_copy();
  EXPECT_EQ(file_of("c1-0", {"desk"}), "old");
  EXPECT_EQ(file_of("c2-0", {"--shelf", desk.shelf()}), "new") << "from the disk's copies alone";
}

TEST_F(OldKeysPutBack, AreNotWrappedAnewWhereTheNewestKeyIsNowhere) {
  lose_own_copy();
  std::string before = keys();
  EXPECT_EQ(desk.kestrum({"passphrase", "desk", "--try"}).exit, 4);
  desk.environment["KESTRUM_NEXT_PASSPHRASE"] = "another made-up one";
  EXPECT_EQ(desk.kestrum({"passphrase", "desk"}).exit, 4);
  EXPECT_EQ(desk.kestrum({"passphrase", "desk", "--new-key"}).exit, 4);
  Desk other("other-pc");
  Ran claimed = other.kestrum({"shelf", "claim", desk.shelf()});
  EXPECT_EQ(claimed.exit, 4) << claimed.out << claimed.err;
  EXPECT_FALSE(path_exists(other.folder / "home/jobs/desk.toml"));
  EXPECT_EQ(keys(), before);
  Ran verify = desk.kestrum({"verify", "desk", "--contents"});
  EXPECT_EQ(verify.exit, 4);
  EXPECT_NE(verify.out.find("no copy that opens holds the key"), std::string::npos) << verify.out;
  EXPECT_NE(verify.out.find("put back a newer keys/ folder"), std::string::npos) << verify.out;
  Json known = desk.json({"status", "desk"})["jobs"][0]["damage"];
  EXPECT_EQ(known, Json::array()) << "a set that does not open is not damaged";
  EXPECT_EQ(file_of("c1-0", {"desk"}), "old") << "what can be had is given";
  EXPECT_EQ(file_of("c1-0", {"--shelf", desk.shelf()}), "old");
}

// A job copy on an unprotected shelf, which anybody may have written.
TEST(AForgedJobCopy, RunsNothingThatWasNotShown) {
  Desk old_pc;
  old_pc.define({"--protection", "none"});
  put_file(old_pc.source() + "/file", "x");
  ASSERT_EQ(old_pc.kestrum({"run", "desk"}).exit, 0);
  std::string copy = old_pc.shelf() + "/job.toml", good = read_file(copy);
  std::string mark = old_pc.folder / "owned", touch = "touch " + mark;
  std::size_t tried = 0;
  for (const std::string& forged :
       {"\"before_run.command\" = \"" + touch + "\"\n" + good,
        "'after_run.command' = '" + touch + "'\n" + good,
        "before_run.command = \"" + touch + "\"\n" + good,
        "before_run = { command = \"" + touch + "\" }\nafter_run = { command = \"" + touch +
            "\" }\n" + good,
        good + "\n[\"before_run\"]\n\"command\" = \"" + touch + "\"\n",
        good + "\n[before_run]\ncommand = \"\"\"\n" + touch + "\"\"\"\n",
        "\"destination.places\" = [\"" + std::string(old_pc.folder / "elsewhere") + "\"]\n" + good,
        "\"protection.passphrase_from\" = \"/etc/hostname\"\n" + good,
        good + "\n[before_run]\ncommand = \"" + touch + "\"\n",
        good + "\n[\"\"]\n\"before_run.command\" = \"" + touch + "\"\n"}) {
    put_file(copy, forged);
    Desk pc("pc-" + std::to_string(++tried));
    pc.environment["KESTRUM_HOST"] = "test-pc";
    Ran ran = pc.kestrum({"shelf", "claim", old_pc.shelf(), "--unprotected"});
    EXPECT_LE(ran.exit, 4) << ran.out << ran.err;
    std::string job = pc.folder / "home/jobs/desk.toml";
    if (!path_exists(job)) continue;
    EXPECT_EQ(read_file(job).find("touch"), std::string::npos) << forged << read_file(job);
    Json shown = pc.json({"job", "show", "desk"});
    EXPECT_EQ(shown["keys"]["before_run.command"], "") << forged;
    EXPECT_EQ(shown["keys"]["after_run.command"], "") << forged;
    EXPECT_EQ(shown["keys"]["protection.passphrase_from"], "") << forged;
    EXPECT_EQ(shown["keys"]["destination.places"], Json{old_pc.disk()}) << forged;
    EXPECT_LE(pc.kestrum({"run", "desk"}).exit, 1);
    EXPECT_FALSE(path_exists(mark)) << forged;
  }
  EXPECT_EQ(tried, 10u);
}

}  // namespace
}  // namespace kestrum::test
