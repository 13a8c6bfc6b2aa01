// Large files that change a little: what a set of them costs, and that every restore point comes
// back whatever happens to the file, the set and the PC.
#include <fcntl.h>
#include <gtest/gtest.h>
#include <sys/stat.h>
#include <unistd.h>

#include <cstdlib>
#include <filesystem>
#include <random>

#include "kestrum/base/error.h"
#include "kestrum/base/file.h"
#include "kestrum/job/edit_key.h"
#include "kestrum/place/local_place.h"
#include "support/durable_disk.h"
#include "support/engine_desk.h"
#include "support/large_files.h"

namespace kestrum::test {
namespace {

namespace fs = std::filesystem;

class LargeFileRuns : public testing::Test {
 protected:
  void SetUp() override {
    desk.define({"--protection", "none", "--keep-for", "3650 days", "--new-full", "never"});
    std::string job = desk.folder / "home/jobs/desk.toml";
    write_file(job, edit_key(read_file(job), "report.suspect_above", std::string("100%")));
  }
  std::string box() const { return desk.source() + "/mail.box"; }
  // What a run copied of content, in bytes.
  std::uint64_t run(const std::vector<std::string>& more = {}, int exit = 0) {
    std::vector<std::string> words = {"run", "desk"};
    words.insert(words.end(), more.begin(), more.end());
    Json report = desk.json(words, exit);
    set = report["runs"][0]["set"];
    return report["runs"][0]["bytes"]["copied"];
  }
  void expect_restored(const std::string& point, const Tree& tree) {
    std::string to = desk.folder / "back";
    fs::remove_all(to);
    ASSERT_EQ(
        desk.kestrum({"restore", "desk", "--point", point, "--to", to, "--layout", "full"}).exit,
        0);
    EXPECT_EQ(difference(tree, tree_of(to + desk.source())), "") << point;
  }
  void expect_sound() {
    Json report = desk.json({"verify", "desk", "--contents"});
    EXPECT_EQ(report["damage"], Json::array());
    EXPECT_EQ(report["index"]["differences"], Json::array());
  }
  Desk desk;
  std::string set;  // that the last run made
};

TEST_F(LargeFileRuns, CostAboutWhatChangedInThem) {
  std::string content = noise(24'000'000, 1);
  put_file(box(), content);
  EXPECT_EQ(run(), content.size());
  std::map<std::string, Tree> points = {{set, tree_of(desk.source())}};
  auto cost = [&](const std::string& now) {
    put_file(box(), content = now);
    std::uint64_t copied = run();
    points[set] = tree_of(desk.source());
    return copied;
  };
  std::string edited = content;
  edited.replace(7'000'000, 20, "edited in this place");
  EXPECT_LT(cost(edited), 200'000U) << "an edit in place";
  EXPECT_LT(cost(content + noise(300'000, 2)), 450'000U) << "something was appended";
  EXPECT_LT(cost(noise(100, 3) + content), 200'000U) << "100 bytes at the front";
  EXPECT_LT(cost(std::string(content).erase(9'000'000, 5'000'000)), 200'000U) << "a part is gone";
  EXPECT_LT(cost(content.substr(0, 12'345'678)), 200'000U) << "cut off";
  EXPECT_LT(cost(content.substr(6'000'000) + content.substr(0, 6'000'000)), 600'000U)
      << "two halves changed places";
  fs::rename(box(), desk.source() + "/renamed.box");
  put_file(desk.source() + "/renamed.box", content = "new words" + content);
  EXPECT_LT(run(), 200'000U) << "under a new name";
  points[set] = tree_of(desk.source());
  put_file(desk.source() + "/copy.box",
           content.substr(0, 3'000'000) + "!" + content.substr(3'000'000));
  EXPECT_LT(run(), 600'000U) << "a copy that was changed";
  points[set] = tree_of(desk.source());
  for (const auto& [point, tree] : points) expect_restored(point, tree);
  expect_sound();
}

TEST_F(LargeFileRuns, WithHolesKeepThem) {
  std::string path = desk.source() + "/image";
  put_file(path, noise(2'000'000, 1));
  ASSERT_EQ(::truncate(path.c_str(), 40'000'000), 0);
  auto write_at = [&](long at, const std::string& bytes) {
    Fd fd(::open(path.c_str(), O_WRONLY | O_CLOEXEC));
    ASSERT_EQ(::pwrite(fd.get(), bytes.data(), bytes.size(), at),
              static_cast<ssize_t>(bytes.size()));
  };
  write_at(20'000'000, noise(9'000'000, 2));
  run();
  std::map<std::string, Tree> points = {{set, tree_of(desk.source())}};
  write_at(25'000'000, "a page that changed");
  EXPECT_LT(run(), 200'000U);
  points[set] = tree_of(desk.source());
  write_at(35'000'000, noise(1'000'000, 3));
  EXPECT_LT(run(), 1'200'000U);
  points[set] = tree_of(desk.source());
  for (const auto& [point, tree] : points) {
    expect_restored(point, tree);
    struct stat st {};
    ASSERT_EQ(::stat((desk.folder / "back" + path).c_str(), &st), 0);
    EXPECT_EQ(st.st_size, 40'000'000);
    EXPECT_LT(st.st_blocks * 512, 14'000'000) << point << ": a hole was filled";
  }
  expect_sound();
}

// A line of a ledger holds only so many pieces.
TEST_F(LargeFileRuns, WithVeryManyHolesAreStoredWhole) {
  std::string page = noise(4096, 1);
  put_file(desk.source() + "/other", "words");
  run();
  {
    Fd fd(::open((desk.source() + "/image").c_str(), O_WRONLY | O_CREAT | O_CLOEXEC, 0644));
    for (int i = 0; i < 10'200; ++i) {
      ASSERT_EQ(::pwrite(fd.get(), page.data(), page.size(), i * 12'288L), 4096);
    }
  }
  run();
  std::string ledger = desk.set_folder(set) + "/ledger.jsonl.zst";
  EXPECT_EQ(run_program({"zstd", "-dcq", ledger}).out.find("\"ranges\":[["), std::string::npos);
  expect_sound();
}

TEST_F(LargeFileRuns, AreStoredWholeWhereTheJobSaysSo) {
  std::string content = noise(9'000'000, 1);
  put_file(box(), content);
  run();
  ASSERT_EQ(desk.kestrum({"job", "set", "desk", "source.stretches_above", "off"}).exit, 0);
  put_file(box(), content += "x");
  EXPECT_EQ(run(), content.size());
  ASSERT_EQ(desk.kestrum({"job", "set", "desk", "source.stretches_above", "1 MB"}).exit, 0);
  // What was stored without being listed is not known by its stretches; from then on it is.
  put_file(box(), content += "y");
  run();
  put_file(box(), content += "z");
  EXPECT_LT(run(), 200'000U);
  expect_sound();
  for (const char* bad : {"8", "100 kB", "much"}) {
    EXPECT_EQ(desk.kestrum({"job", "set", "desk", "source.stretches_above", bad}).exit, 2) << bad;
  }
}

TEST_F(LargeFileRuns, WithSeveralNamesAreOneFileStill) {
  put_file(box(), noise(9'000'000, 1));
  fs::create_hard_link(box(), desk.source() + "/other.box");
  run();
  put_file(box(), noise(9'000'000, 1).replace(4'000'000, 5, "words"));
  EXPECT_LT(run(), 200'000U);
  Tree tree = tree_of(desk.source());
  expect_restored(set, tree);
  expect_sound();
}

// Whichever way a file is handed out, it is the same.
TEST_F(LargeFileRuns, AreHandedOutInEveryWay) {
  std::string content = noise(9'000'000, 1);
  put_file(box(), content);
  run();
  for (int i = 0; i < 9; ++i) {  // more sets than a reader holds open
    put_file(box(), content.replace(static_cast<std::size_t>(500'000 + 900'000 * i), 5, "words"));
    run();
  }
  EXPECT_TRUE(desk.kestrum({"restore", "desk", box(), "--to", "-"}).out == content);
  std::string to = desk.folder / "out";
  fs::create_directory(to);
  ASSERT_EQ(desk.kestrum({"restore", "desk", box(), "--as-zip", to + "/x.zip"}).exit, 0);
  ASSERT_EQ(desk.kestrum({"restore", "desk", box(), "--as-tar", to + "/x.tar"}).exit, 0);
  Ran opened =
      run_script("cd " + shell_quoted(to) + "; tar -xOf x.tar | cmp - " + shell_quoted(box()) +
                 "; python3 -c 'import sys, zipfile; a = zipfile.ZipFile(\"x.zip\");"
                 " sys.stdout.buffer.write(a.read(a.namelist()[0]))' | cmp - " +
                 shell_quoted(box()));
  EXPECT_EQ(opened.exit, 0) << opened.out << opened.err;
  EXPECT_EQ(desk.kestrum({"drill", "desk", "--files", "1"}).exit, 0);
}

// Without both of its ledgers a set's tar tells only of files that it holds whole.
TEST_F(LargeFileRuns, AreToldToBeMissingWhereTheirLedgerIs) {
  std::string content = noise(9'000'000, 1);
  put_file(box(), content);
  run();
  Tree before = tree_of(desk.source());
  put_file(box(), content.replace(2'000'000, 5, "words"));
  put_file(desk.source() + "/note", "small");
  run();
  for (const char* name : {"/ledger.jsonl.zst", "/ledger-copy.jsonl.zst"}) {
    write_file(desk.set_folder("c1-1") + name, "damaged");
  }
  desk.lose_index();
  std::string to = desk.folder / "back";
  Ran ran = desk.kestrum({"restore", "desk", "--point", "c1-1", "--to", to, "--layout", "full"});
  EXPECT_NE((ran.out + ran.err).find("what changed in large files cannot be put together"),
            std::string::npos)
      << ran.out << ran.err;
  Tree found = tree_of(to + desk.source());
  EXPECT_EQ(found["/mail.box"], before["/mail.box"]) << "as it was before";
  EXPECT_TRUE(found.contains("/note"));
  for (const auto& [path, line] : tree_of(to)) {
    EXPECT_EQ(path.find(".kestrum-"), std::string::npos) << path;
  }
}

// The name that stretches have in the tar is nobody else's.
TEST_F(LargeFileRuns, LeaveOutWhatHasTheirName) {
  if (::geteuid() != 0) GTEST_SKIP() << "needs root, for a folder in \"/\"";
  put_file(desk.source() + "/file", "words");
  run();
  std::string shelf = Json::parse(read_file(desk.shelf() + "/shelf.json"))["shelf"];
  std::string folder = "/.kestrum-" + shelf;
  fs::create_directory(folder);
  put_file(folder + "/000000001", "somebody's");
  ASSERT_EQ(desk.kestrum({"job", "set", "desk", "source.folders", desk.source(), folder}).exit, 0);
  Json report = desk.json({"run", "desk"}, 1)["runs"][0];
  fs::remove_all(folder);
  EXPECT_NE(report["warnings"].dump().find("a name that Kestrum's sets use"), std::string::npos)
      << report["warnings"];
}

// What would be copied is told by a look at the file, and about right.
TEST_F(LargeFileRuns, AreForecastByWhatChangedInThem) {
  std::string content = noise(40'000'000, 1);
  put_file(box(), content);
  run();
  for (auto [key, value] :
       {std::pair("keep.for", "14 days"), std::pair("chain.new_full", "after 13 sets")}) {
    ASSERT_EQ(desk.kestrum({"job", "set", "desk", key, value}).exit, 0);  // or it looks far ahead
  }
  auto forecast = [&] {
    Json report = desk.json({"forecast", "desk"});
    return report["bytes"]["to_copy"].get<std::uint64_t>();
  };
  EXPECT_EQ(forecast(), 0U);
  put_file(box(), noise(100, 2) + content + noise(1'000'000, 3));
  std::uint64_t told = forecast(), copied = run();
  EXPECT_GE(told, 900'000U);
  EXPECT_LE(told, 2 * copied);
  std::string half = content.substr(0, 20'000'000) + noise(20'000'000, 4);
  put_file(box(), half);
  told = forecast();
  copied = run();
  EXPECT_NEAR(static_cast<double>(told), static_cast<double>(copied), 4e6);
  put_file(box(), half.replace(5'000'000, 100, "words"));
  EXPECT_LT(forecast(), 2'500'000U);
}

TEST_F(LargeFileRuns, AreStoredAnewJustWhereTheyAreDamaged) {
  std::string content = noise(20'000'000, 1);
  ASSERT_EQ(desk.kestrum({"job", "set", "desk", "destination.part_size", "1 MB"}).exit, 0);
  put_file(box(), content);
  run();
  put_file(box(), content.replace(3'000'000, 5, "words"));
  run();
  std::string part = desk.set_folder("c1-0") + "/part-000012.tar.zst", bytes = read_file(part);
  for (std::size_t at = 0; at < bytes.size(); at += 50) bytes[at] ^= 1;
  write_file(part, bytes);
  Json found = desk.json({"verify", "desk"}, 4);
  ASSERT_EQ(found["damage"].size(), 1U) << found;
  EXPECT_EQ(found["damage"][0]["lost"].size(), 2U) << found << ": both versions lie there";
  std::uint64_t copied = run();
  EXPECT_GT(copied, 900'000U);
  EXPECT_LT(copied, 6'500'000U) << "what lies in a part of 1 MB, and not the whole file";
  expect_restored(set, tree_of(desk.source()));
}

// A full set that was cut inside a large file lists all of it, so that the next set costs little.
TEST(CutFiles, AreListedAllTheSame) {
  int continued = 0;
  for (int calls : {6, 12, 18, 24}) {
    EngineDesk engine;
    engine.desk.define({"--protection", "none", "--part-size", "1 MB"});
    std::string box = engine.desk.source() + "/mail.box", content = noise(20'000'000, 1);
    put_file(box, content);
    BackupOptions options;
    options.stop = [calls]() mutable { return calls-- <= 0; };
    engine.run_once(options);
    RunReport report = engine.run_once();
    continued += report.continued;
    EXPECT_EQ(report.exit, 0) << report.reason;
    put_file(box, content.replace(4'000'000, 5, "words").replace(15'000'000, 5, "words"));
    EXPECT_LT(engine.run_once().bytes.copied, 400'000U) << calls;
    engine.learn();
    engine.expect_index_is_true();
    for (const char* set : {"c1-1"}) engine.expect_point(set);
  }
  EXPECT_GT(continued, 1);
}

// ---- Whatever happens

class LargeFileHistory : public EngineDesk {
 public:
  explicit LargeFileHistory(unsigned seed)
      : random_(seed), editor_(desk.source(), seed + 1000, {7, 5'000'000}) {
    desk.define({"--protection", "none", "--keep-for", "3650 days", "--new-full", "never",
                 "--part-size", "1 MB"});
    std::string path = desk.folder / "home/jobs/desk.toml", text = read_file(path);
    text = edit_key(text, "report.suspect_above", std::string("100%"));
    write_file(path, edit_key(text, "source.stretches_above", std::string("1 MB")));
  }

  void round(bool every_point) {
    editor_.edit();
    BackupOptions options;
    int kind = below(10);
    if (kind == 0) options.kind = SetKind::kFull;
    if (kind < 4 && kind > 0 && !sets().empty()) options.kind = SetKind::kDifferential;
    if (below(3) == 0) cut(options);
    if (below(4) == 0) return damaged_round(options);
    if (below(3) == 0) {
      compare_with_rebuilt(options);
    } else {
      run(options);
    }
    learn();
    expect_index_is_true();
    if (every_point) {
      expect_every_point();
    } else {
      expect_newest();
    }
  }

  void read_by_the_format_alone() {
    for (const auto& [set, tree] : model) {
      std::string out = desk.folder / "read";
      fs::remove_all(out);
      Ran ran = run_program({"python3", KESTRUM_READER, desk.shelf(), set, out});
      EXPECT_EQ(ran.exit, 0) << set << "\n" << ran.err;
      EXPECT_EQ(difference(tree, tree_of(out + desk.source())), "") << set;
    }
  }

 private:
  int below(int limit) { return static_cast<int>(random_() % static_cast<unsigned>(limit)); }

  RunReport run(const BackupOptions& options) {
    RunReport report = run_once(options);
    EXPECT_LE(report.exit, 1) << report.reason;
    return report;
  }

  // A run that is stopped, or whose disk loses its power, somewhere in the middle, and what is
  // edited before the next.
  void cut(BackupOptions options) {
    int calls = below(60);
    DurableDisk disk(desk.shelf());
    bool power = below(2) == 0;
    if (power) {
      disk.fail_at(calls, DurableDisk::Fault::kPowerCut);
      set_place_opener([&](const std::string& folder) -> std::shared_ptr<Place> {
        if (folder == desk.shelf()) return disk.place();
        return std::make_shared<LocalPlace>(folder);
      });
    } else {
      options.stop = [calls]() mutable { return calls-- <= 0; };
    }
    try {
      run_once(options);
    } catch (const Error&) {
      // Told to the user.
    }
    set_place_opener({});
    if (power) disk.cut_power();
    learn();
    if (below(2) == 0) editor_.edit();
  }

  // A part of the newest chain is hurt: `verify` finds it, and the next set stores anew what lay
  // there. The hurt points are put back afterwards, so that the history goes on.
  void damaged_round(const BackupOptions& options) {
    std::vector<std::string> parts;
    for (const std::string& set : sets()) {
      for (const std::string& name : list_folder(desk.set_folder(set))) {
        if (name.starts_with("part-")) parts.push_back(desk.set_folder(set) + "/" + name);
      }
    }
    if (parts.empty()) return;
    std::string part = parts[random_() % parts.size()], whole = read_file(part), hurt = whole;
    for (std::size_t at = 0; at < hurt.size(); at += 1 + hurt.size() / 20) hurt[at] ^= 1;
    write_file(part, hurt);
    Json found = desk.json({"verify", "desk"}, desk.kestrum({"verify", "desk"}).exit);
    EXPECT_EQ(found["damage"].size(), 1U) << found;
    run(options);
    learn();
    expect_newest();
    expect_index_is_true();
    write_file(part, whole);
    desk.kestrum({"verify", "desk"});
    expect_every_point();
  }

  // The next set costs the same with an index that was read from the ledgers.
  void compare_with_rebuilt(const BackupOptions& options) {
    remember();
    RunReport with = run(options);
    put_back();
    desk.lose_index();
    RunReport rebuilt = run(options);
    if (with.continued) return;  // what an interrupted run left is lost with the index
    EXPECT_EQ(with.set, rebuilt.set);
    EXPECT_EQ(with.kind, rebuilt.kind) << rebuilt.why;
    EXPECT_EQ(with.bytes.copied, rebuilt.bytes.copied);
  }

  void expect_newest() {
    std::vector<SetId> there;
    for (const std::string& set : sets()) there.push_back(*SetId::parse(set));
    if (!there.empty()) expect_point(std::max_element(there.begin(), there.end())->to_string());
  }

  std::mt19937_64 random_;
  LargeFiles editor_;
};

// Edits, kinds of set, cut runs and lost indexes at random, over several chains.
TEST(AnyHistory, OfLargeFilesComesBack) {
  const char* more = std::getenv("KESTRUM_STRETCH_SEEDS");
  unsigned seeds = more == nullptr ? 1 : static_cast<unsigned>(std::atoi(more));
  const char* from = std::getenv("KESTRUM_STRETCH_FROM");
  unsigned first = from == nullptr ? 1 : static_cast<unsigned>(std::atoi(from));
  for (unsigned seed = first; seed < first + seeds && !testing::Test::HasFailure(); ++seed) {
    SCOPED_TRACE("seed " + std::to_string(seed));
    LargeFileHistory history(seed);
    for (int round = 1; round <= 12 && !testing::Test::HasFailure(); ++round) {
      SCOPED_TRACE("round " + std::to_string(round));
      history.round(round % 6 == 0);
    }
    if (!testing::Test::HasFailure()) history.read_by_the_format_alone();
  }
}

}  // namespace
}  // namespace kestrum::test
