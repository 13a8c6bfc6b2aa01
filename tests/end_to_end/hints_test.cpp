// What the program prints to be pasted does what it says when it is pasted. That every hint of
// every test is a command is looked at where programs are run; see support/hints.h.
#include "support/hints.h"

#include <gtest/gtest.h>

#include <filesystem>
#include <regex>

#include "kestrum/base/file.h"
#include "support/program.h"
#include "support/small_disk.h"

namespace kestrum::test {
namespace {

namespace fs = std::filesystem;

class Hints : public testing::Test {
 protected:
  void SetUp() override {
    fs::create_directories(bin());
    fs::create_symlink(KESTRUM_PROGRAM, bin() + "/kestrum");
    desk.environment["PATH"] = bin() + ":" + std::getenv("PATH");
    desk.environment["VISUAL"] = desk.environment["EDITOR"] = "true";
    fill = {{"NAME", "desk"},
            {"PATH", shell_quoted(desk.source())},
            {"TEXT", "'looked at'"},
            {"SET", "c1-0"}};
    put_file(desk.source() + "/week 1's rota.csv", "week 1\n");
    put_file(desk.source() + "/notes.txt", "n\n");
  }
  std::string bin() const { return desk.folder / "bin"; }

  // Does what somebody does who pastes everything that `ran` printed. Placeholders are filled by
  // `fill`, DIR by a new folder. `ran` was asked for by `words`.
  void paste_all(const std::vector<std::string>& words, const std::set<int>& fine = {0}) {
    Ran ran = desk.kestrum(words);
    std::vector<std::string> hints = hints_in(ran.out + "\n" + ran.err);
    std::string asked = "kestrum";
    for (const std::string& word : words) asked += " " + shell_quoted(word);
    // "add --point c1-0": to what was typed.
    static const std::regex kAdd("(^|\n) *add (--[^\n;]*)");
    std::smatch match;
    std::string text = ran.err;
    while (std::regex_search(text, match, kAdd)) {
      hints.push_back(asked + " " + match[2].str());
      text = match.suffix();
    }
    EXPECT_TRUE(!hints.empty()) << asked << "\n" << ran.out << ran.err;
    for (std::string hint : hints) {
      for (const auto& [name, value] : fill) {
        hint = std::regex_replace(hint, std::regex("\\b" + name + "\\b"), value);
      }
      hint = std::regex_replace(hint, std::regex("\\bDIR\\b"),
                                std::string(desk.folder / ("out" + std::to_string(++outs_))));
      // Nobody's timers are touched by a test. Disks are folders of one filesystem here.
      if (hint.starts_with("kestrum schedule install")) continue;
      bool starts = hint.starts_with("kestrum shelf start") || hint.starts_with("kestrum job new");
      if (starts && !small_disk) hint += " --same-disk";
      if (!pasted.insert(hint).second) continue;
      Ran done =
          run_script("cd " + shell_quoted(desk.folder.path()) + "\n" + hint, desk.environment);
      EXPECT_TRUE(fine.contains(done.exit))
          << hint << "\nends with " << done.exit << "\n"
          << done.out << done.err << "\nprinted by " << asked << "\n"
          << ran.out << ran.err;
    }
  }
  bool was_pasted(const std::string& start) const {
    return std::any_of(pasted.begin(), pasted.end(),
                       [&](const std::string& hint) { return hint.starts_with(start); });
  }

  Desk desk;
  std::map<std::string, std::string> fill;
  std::set<std::string> pasted;
  bool small_disk = false;

 private:
  int outs_ = 0;
};

// What the demo prints is looked at as all output is.
TEST(HintsOfTheDemo, AreCommands) {
  Desk desk;
  for (const char* name : {"KESTRUM_HOME", "KESTRUM_HOST", "KESTRUM_PASSPHRASE"}) {
    desk.environment[name] = "";
  }
  Ran ran = desk.kestrum({"demo", "--into", desk.folder / "demo"});
  EXPECT_EQ(ran.exit, 0) << ran.err;
  EXPECT_GE(hints_in(ran.out).size(), 5U) << ran.out;
}

TEST_F(Hints, OfAFirstDay) {
  fill["PLACE"] = shell_quoted(desk.disk()) + " --protection none";
  paste_all({"status"});
  EXPECT_TRUE(was_pasted("kestrum job new desk --from"));
  Ran made = desk.kestrum({"job", "show", "desk"});
  EXPECT_EQ(made.exit, 0) << "the hint made the job";
  paste_all({"sets", "desk"});
  EXPECT_TRUE(was_pasted("kestrum run desk"));
  paste_all({"history", "desk"});
  EXPECT_TRUE(was_pasted("kestrum history desk --show"));
  paste_all({"history", "desk", "--show", "77"});
  paste_all({"status", "desk"});
  paste_all({"nothing-like-it"});
  paste_all({"lok"});
  paste_all({"job", "copy", "desk", "other"});
  paste_all({"look", "desk", "--nothing-like-it"});
}

TEST_F(Hints, OfAProtectedJobAndANewPc) {
  desk.define();
  paste_all({"job", "copy", "desk", "second"});
  desk.environment["KESTRUM_NEXT_PASSPHRASE"] = "salt and sand";
  fs::create_directory(desk.folder / "third");
  Desk other("other-pc");
  paste_all({"job", "new", "third", "--from", desk.source(), "--to", desk.folder / "third",
             "--same-disk"});
  EXPECT_TRUE(was_pasted("kestrum passphrase third --card"));
  EXPECT_TRUE(was_pasted("kestrum run third"));
  ASSERT_EQ(desk.kestrum({"run", "desk"}).exit, 0);
  paste_all({"passphrase", "desk"});
  EXPECT_TRUE(was_pasted("kestrum passphrase desk --new-key"));

  std::string shelf = desk.shelf();
  desk.environment["KESTRUM_HOME"] = desk.folder / "new-home";
  desk.environment["KESTRUM_HOST"] = "new-pc";
  Ran looked = desk.kestrum({"shelf", "claim", shelf, "--look-only"});
  ASSERT_EQ(looked.exit, 0) << looked.err;
  fill["PATH"] = shell_quoted(desk.source() + "/notes.txt");
  paste_all({"shelf", "claim", shelf, "--look-only"});
  EXPECT_TRUE(was_pasted("kestrum shelf claim "));
  EXPECT_TRUE(was_pasted("kestrum restore --shelf "));
  fs::remove_all(desk.folder / "new-home");
  fs::rename(desk.source(), desk.folder / "gone");
  paste_all({"shelf", "claim", shelf});
  EXPECT_TRUE(was_pasted("kestrum job resume desk"));
  EXPECT_TRUE(was_pasted("kestrum restore desk --in-place"));
  EXPECT_EQ(read_file(desk.source() + "/notes.txt"), "n\n");

  // The old PC reads what is another's now.
  desk.environment["KESTRUM_HOME"] = desk.folder / "home";
  desk.environment["KESTRUM_HOST"] = "test-pc";
  Ran ran = desk.kestrum({"run", "desk"});
  EXPECT_EQ(ran.exit, 5);
  EXPECT_EQ(hints_in(ran.err), std::vector<std::string>{"kestrum shelf start desk"}) << ran.err;
  paste_all({"job", "remove", "third", "--yes"});
  EXPECT_TRUE(was_pasted("kestrum look --shelf"));
}

TEST_F(Hints, OfSomebodyWhoLooksForAFile) {
  desk.define({"--protection", "none"});
  ASSERT_EQ(desk.kestrum({"run", "desk"}).exit, 0);
  fs::remove(desk.source() + "/week 1's rota.csv");
  ASSERT_EQ(desk.kestrum({"run", "desk"}).exit, 0);
  std::string path = desk.source() + "/week 1's rota.csv";
  // By its whole path, and as people name it.
  for (const std::string& typed : {path, std::string("week 1's rota.csv")}) {
    paste_all({"look", "desk", typed});
    paste_all({"restore", "desk", typed, "--to", desk.folder / "back"});
    EXPECT_EQ(read_file(desk.folder / "back/week 1's rota.csv"), "week 1\n") << typed;
    fs::remove_all(desk.folder / "back");
    pasted.clear();
  }
  fill["PATH"] = shell_quoted(path);
  paste_all({"trace", "desk", "1's"});
  EXPECT_TRUE(was_pasted("kestrum restore desk"));
  paste_all({"trace", "desk", "nothing"});
  paste_all({"restore", "desk", path, "--in-place", "--mirror", "--missing"}, {0, 9});
}

TEST_F(Hints, OfDamage) {
  desk.define({"--protection", "none"});
  ASSERT_EQ(desk.kestrum({"run", "desk"}).exit, 0);
  std::string part = desk.set_folder("c1-0") + "/part-000001.tar.zst";
  const std::string sound = read_file(part);
  std::string bytes = sound;
  // All but the ends: one byte might be of a time, which a drill does not compare.
  for (std::size_t i = 8; i + 8 < bytes.size(); ++i) bytes[i] = static_cast<char>(~bytes[i]);
  put_file(part, bytes);
  paste_all({"drill", "desk"}, {4});
  paste_all({"restore", "desk", "--to", desk.folder / "back"}, {4});
  paste_all({"verify", "desk"}, {0, 1, 4});
  EXPECT_TRUE(was_pasted("kestrum verify desk --contents"));
  EXPECT_TRUE(was_pasted("kestrum run desk"));
  paste_all({"status", "desk"}, {0, 4});
  paste_all({"sets", "desk"}, {0, 4});
  // Both ledgers of it instead.
  put_file(part, sound);
  for (const char* name : {"ledger.jsonl.zst", "ledger-copy.jsonl.zst"}) {
    std::string ledger = desk.set_folder("c1-0") + "/" + name;
    fs::resize_file(ledger, 10);
  }
  pasted.clear();
  desk.lose_index();
  paste_all({"verify", "desk"}, {0, 1, 4});
  EXPECT_TRUE(was_pasted("kestrum restore desk --point c1-0")) << "what lies in its tar";
}

TEST_F(Hints, OfASuspectSetOfOneOfTwoDisks) {
  desk.on_day(0);
  for (const char* disk : {"blue", "red"}) fs::create_directory(desk.folder / disk);
  ASSERT_EQ(
      desk.kestrum({"job", "new", "desk", "--from", desk.source(), "--to", desk.folder / "blue",
                    "--to", desk.folder / "red", "--same-disk", "--protection", "none"})
          .exit,
      0);
  auto write = [&](const std::string& text) {
    for (int i = 0; i < 40; ++i) {
      put_file(desk.source() + "/file-" + std::to_string(i), text + std::to_string(i));
    }
  };
  write("one ");
  for (const char* disk : {"blue", "red"}) {
    desk.on_day(disk[0] == 'b' ? 1 : 2);
    ASSERT_EQ(desk.kestrum({"run", "desk", "--on", desk.folder / disk}).exit, 0);
  }
  write("quite another ");
  // Of two disks blue is the older: a hint without the disk would mean that one.
  desk.on_day(3);
  Ran ran = desk.kestrum({"run", "desk", "--on", desk.folder / "red"});
  ASSERT_EQ(ran.exit, 1) << ran.out << ran.err;
  for (const std::string& hint : hints_in(ran.out)) {
    EXPECT_NE(hint.find("--on " + (desk.folder / "red")), std::string::npos) << hint;
  }
  Ran status = desk.kestrum({"status", "desk"});
  std::vector<std::string> hints = hints_in(status.out);
  ASSERT_FALSE(hints.empty()) << status.out;
  paste_all({"sets", "desk"});
  EXPECT_TRUE(was_pasted("kestrum trust desk c1-1 --because 'looked at' --on")) << status.out;
  EXPECT_EQ(desk.json({"look", "desk"})["set"], "c1-1") << "it is trusted now";
}

TEST_F(Hints, OfADiskThatIsNotThereAndOneWithoutAShelf) {
  desk.define({"--protection", "none"});
  ASSERT_EQ(desk.kestrum({"run", "desk"}).exit, 0);
  fs::rename(desk.disk(), desk.folder / "away");
  fs::create_directory(desk.disk());
  put_file(desk.disk() + "/other-things", "x");
  Ran ran = desk.kestrum({"run", "desk"});
  EXPECT_EQ(ran.exit, 5) << ran.out << ran.err;
  ASSERT_EQ(desk.kestrum({"job", "copy", "desk", "new"}).exit, 0);
  paste_all({"run", "new"});
  EXPECT_TRUE(was_pasted("kestrum shelf start new"));
}

TEST_F(Hints, OfACommandThatFailsAndOfJobFilesThatAreWrong) {
  desk.define({"--protection", "none"});
  std::string file = desk.folder / "home/jobs/desk.toml";
  std::string text = read_file(file);
  put_file(file, text + "\n[before_run]\ncommand = \"false\"\n");
  paste_all({"run", "desk"});
  EXPECT_TRUE(was_pasted("kestrum history desk --show"));
  put_file(file, text + "\n[effort]\nlimit = \"quick\"\n");
  paste_all({"run", "desk"}, {0, 2});
}

TEST_F(Hints, OfADiskThatIsFull) {
  SmallDisk disk(desk.folder, desk.disk(), 24, DiskKind::kTmpfs);
  if (!disk.mounted()) GTEST_SKIP() << disk.why_not();
  small_disk = true;
  desk.on_day(0);
  put_file(desk.source() + "/sound.wav", noise(9'000'000, 1));
  desk.define({"--protection", "none", "--kind", "full", "--keep-for", "30 days"});
  desk.on_day(1);
  ASSERT_EQ(desk.kestrum({"run", "desk"}).exit, 0);
  put_file(desk.source() + "/sound.wav", noise(9'000'000, 2));
  desk.on_day(2);
  desk.kestrum({"run", "desk"});
  put_file(desk.source() + "/sound.wav", noise(9'000'000, 3));
  desk.on_day(3);
  paste_all({"run", "desk"}, {0, 1, 6});
  EXPECT_TRUE(was_pasted("kestrum prune desk --to-free '")) << pasted.size();
}

}  // namespace
}  // namespace kestrum::test
