// Files are copied from a read-only snapshot where they lie on btrfs, under the paths that they
// have: as they were at one moment, whatever programs do to them meanwhile.
#include <gtest/gtest.h>
#include <unistd.h>

#include <csignal>
#include <filesystem>

#include "kestrum/base/file.h"
#include "support/program.h"
#include "support/small_disk.h"
#include "support/tree.h"

namespace kestrum::test {
namespace {

namespace fs = std::filesystem;

class Snapshots : public testing::Test {
 protected:
  void SetUp() override {
    if (!have_program("mkfs.btrfs")) GTEST_SKIP() << "no btrfs-progs here";
    fs::create_directories(mount());
    disk.emplace(desk.folder, mount(), 300, DiskKind::kBtrfs);
    if (!disk->mounted()) GTEST_SKIP() << disk->why_not();
    subvolume(home());
  }
  void TearDown() override { run_script("umount " + home() + "/ram 2>/dev/null; true"); }
  std::string mount() const { return desk.folder / "btrfs"; }
  std::string home() const { return mount() + "/home"; }
  static void subvolume(const std::string& path) {
    ASSERT_EQ(run_program({"btrfs", "subvolume", "create", path}).exit, 0);
  }
  void define(const std::string& use, const std::vector<std::string>& from = {}) {
    std::vector<std::string> words = {"--protection", "none"};
    for (const std::string& folder : from) words.insert(words.end(), {"--from", folder});
    if (from.empty()) words.insert(words.end(), {"--from", home()});
    fs::create_directories(desk.source());
    desk.define(words);
    set("snapshot", use);
    ASSERT_EQ(desk.kestrum({"job", "set", "desk", "source.folders", desk.source(), "--drop"}).exit,
              0);
  }
  void set(const std::string& key, const std::string& value) {
    Ran ran = desk.kestrum({"job", "set", "desk", "source." + key, value});
    ASSERT_EQ(ran.exit, 0) << ran.err;
  }
  Json run(int exit = 0) { return desk.json({"run", "desk"}, exit)["runs"][0]; }
  // The names of snapshots that are there.
  std::set<std::string> left() const {
    std::set<std::string> names;
    for (const auto& entry : fs::directory_iterator(home())) {
      std::string name = entry.path().filename();
      if (name.starts_with(".kestrum-snapshot-")) names.insert(name);
    }
    return names;
  }
  void expect_same(const Json& report, int seen) {
    EXPECT_EQ(report["files"]["seen"], seen) << report.dump(1);
    EXPECT_EQ(report["files"]["same"], seen) << report.dump(1);
    EXPECT_EQ(report["files"]["copied"], 0);
    EXPECT_EQ(report["files"]["gone"], 0);
    EXPECT_EQ(report["files"]["absent"], 0);
    EXPECT_EQ(report["bytes"]["copied"], 0);
  }
  Desk desk;
  std::optional<SmallDisk> disk;
};

TEST_F(Snapshots, ADatabaseThatIsWrittenToAllTheTimeOpensAfterARestore) {
  // Two tables that agree at each moment; the program commits as fast as it can, each time as
  // lasting as databases do: what is not synced is in a snapshot no surer than after a power cut.
  put_file(desk.folder / "writer.py",
           "import sqlite3, sys, random\n"
           "c = sqlite3.connect(sys.argv[1], isolation_level=None)\n"
           "c.execute('PRAGMA journal_mode=' + sys.argv[2])\n"
           "c.execute('PRAGMA synchronous=FULL')\n"
           "c.execute('CREATE TABLE IF NOT EXISTS a(id INTEGER PRIMARY KEY, n INT, pad BLOB)')\n"
           "c.execute('CREATE TABLE IF NOT EXISTS b(id INTEGER PRIMARY KEY, n INT, pad BLOB)')\n"
           "print('ready', flush=True)\n"
           "while True:\n"
           "  n, row = random.randrange(1000), random.randrange(5000)\n"
           "  c.execute('BEGIN')\n"
           "  for t in 'ab':\n"
           "    c.execute(f'REPLACE INTO {t} VALUES(?,?,randomblob(900))', (row, n))\n"
           "  c.execute('COMMIT')\n");
  put_file(desk.folder / "check.py",
           "import sqlite3, sys\n"
           "c = sqlite3.connect(sys.argv[1])\n"
           "assert c.execute('PRAGMA integrity_check').fetchone()[0] == 'ok'\n"
           "d = c.execute('SELECT count(*) FROM a JOIN b USING(id) WHERE a.n <> b.n').fetchone()\n"
           "n = [c.execute(f'SELECT count(*) FROM {t}').fetchone()[0] for t in 'ab']\n"
           "assert d[0] == 0 and n[0] == n[1] and n[0] > 0, (d, n)\n");
  for (const char* mode : {"WAL", "DELETE"}) {
    std::string folder = home() + "/" + mode;
    // What comes before it in path order, so that the copy of the database takes its time.
    put_file(folder + "/a letter", noise(20'000'000, 3));
    Background writer({"python3", desk.folder / "writer.py", folder + "/base.db", mode}, {});
    ASSERT_TRUE(eventually([&] { return writer.output().find("ready") != std::string::npos; }));
    if (mode == std::string("WAL")) define("require");
    for (int i = 0; i < 3; ++i) {
      Json report = run();
      EXPECT_EQ(report["warnings"].size(), 0u) << "nothing changed while it was read";
      std::string out = desk.folder / ("out-" + std::string(mode) + std::to_string(i));
      ASSERT_EQ(desk.kestrum({"restore", "desk", folder, "--to", out}).exit, 0);
      Ran checked = run_program({"python3", desk.folder / "check.py", out + "/base.db"});
      EXPECT_EQ(checked.exit, 0) << mode << checked.err;
    }
    writer.signal(SIGKILL);
  }
  EXPECT_EQ(left(), std::set<std::string>{});
}

// What a run from a snapshot stores is what a run from the files themselves finds unchanged, and
// the other way round: paths, devices, inode numbers, links, holes, what is mounted.
TEST_F(Snapshots, TheTreeIsTheLiveOne) {
  TreeMaker(home(), 7).grow(60);
  std::string docs = home() + "/docs";
  put_file(docs + "/one", noise(9'000'000, 1));
  fs::create_hard_link(docs + "/one", docs + "/other name");
  run_script("truncate -s 50M " + docs + "/sparse; printf x | dd of=" + docs +
             "/sparse bs=1 seek=30000000 conv=notrunc 2>/dev/null");
  subvolume(home() + "/inner");
  put_file(home() + "/inner/in another subvolume", "inner");
  subvolume(home() + "/inner/deep");
  put_file(home() + "/inner/deep/file", "deep");
  fs::create_directories(home() + "/ram");
  put_file(home() + "/ram/below", "hidden by what is mounted");
  ASSERT_EQ(run_program({"mount", "-t", "tmpfs", "tmpfs", home() + "/ram"}).exit, 0);
  put_file(home() + "/ram/on a disk of its own", "ram");
  fs::create_directory_symlink(docs, desk.folder / "link");
  for (const char* crossing : {"false", "true"}) {
    for (const std::vector<std::string>& from :
         {std::vector<std::string>{home()}, {docs, desk.folder / "link"}}) {
      if (fs::exists(desk.folder / "home/jobs/desk.toml")) {
        ASSERT_EQ(desk.kestrum({"job", "remove", "desk", "--yes"}).exit, 0);
        fs::remove_all(desk.disk());
        fs::create_directories(desk.disk());
        fs::remove_all(desk.folder / "home/state");
      }
      define("require", from);
      set("other_filesystems", crossing);
      Json first = desk.json({"run", "desk"}, 0)["runs"][0];
      int seen = first["files"]["seen"];
      ASSERT_GT(seen, 3);
      set("snapshot", "off");
      expect_same(run(), seen);
      EXPECT_EQ(desk.kestrum({"run", "desk", "--kind", "full"}).exit, 0);
      set("snapshot", "require");
      expect_same(run(), seen);
      std::set<std::string> names;
      Json held = desk.json({"look", "desk", from[0], "--depth", "9"});
      for (const Json& entry : held["entries"]) {
        if (entry.contains("path")) names.insert(base_name(entry["path"].get<std::string>()));
      }
      bool whole = from[0] == home(), crosses = crossing == std::string("true");
      EXPECT_EQ(names.contains("on a disk of its own"), whole && crosses);
      EXPECT_EQ(names.contains("in another subvolume"), whole && crosses);
      EXPECT_EQ(names.contains("below"), false) << "it is hidden";
      EXPECT_EQ(names.contains("other name"), true);
      fs::remove_all(desk.folder / "out");
      ASSERT_EQ(desk.kestrum({"restore", "desk", docs, "--to", desk.folder / "out"}).exit, 0);
      EXPECT_EQ(difference(tree_of(docs), tree_of(desk.folder / "out")), "");
      EXPECT_EQ(left(), std::set<std::string>{});
    }
  }
}

TEST_F(Snapshots, OneThatAKilledRunLeftIsRemovedByTheNext) {
  put_file(home() + "/large", noise(40'000'000, 1));
  define("auto");
  ASSERT_EQ(desk.kestrum({"job", "set", "desk", "effort.limit", "5 MB/s"}).exit, 0);
  {
    Background killed({KESTRUM_PROGRAM, "run", "desk"}, desk.environment);
    ASSERT_TRUE(eventually([&] { return !left().empty(); })) << killed.output();
    killed.signal(SIGKILL);
    killed.wait();
  }
  EXPECT_EQ(left().size(), 1u);
  // What only looks like one stays.
  fs::create_directories(home() + "/.kestrum-snapshot-mine");
  ASSERT_EQ(desk.kestrum({"job", "set", "desk", "effort.limit", "off"}).exit, 0);
  Json report = run();
  EXPECT_EQ(report["files"]["seen"], 1) << report.dump(1);
  EXPECT_EQ(left(), std::set<std::string>{".kestrum-snapshot-mine"});
  EXPECT_TRUE(fs::is_empty(desk.folder / "home/state/snapshots"));
}

// A snapshot that is there still, of whatever run, is not copied.
TEST_F(Snapshots, AreNotCopiedThemselves) {
  put_file(home() + "/file", "1");
  define("auto");
  set("other_filesystems", "true");
  ASSERT_EQ(run_program({"btrfs", "subvolume", "snapshot", "-r", home(),
                         home() + "/.kestrum-snapshot-other"})
                .exit,
            0);
  EXPECT_EQ(run()["files"]["seen"], 1);
  set("snapshot", "off");
  EXPECT_EQ(run()["files"]["seen"], 1);
}

TEST_F(Snapshots, WithoutTheRightTheFilesAreReadAndThatIsToldOnce) {
  put_file(home() + "/file", "1");
  define("auto");
  fs::permissions(desk.folder.path(), fs::perms(0755));
  desk.become_nobody();
  Ran first = desk.kestrum({"run", "desk"});
  EXPECT_EQ(first.exit, 0) << first.err;
  EXPECT_NE(first.err.find("only root can make and remove them"), std::string::npos) << first.err;
  put_file(home() + "/file", "2");
  Ran second = desk.kestrum({"run", "desk"});
  EXPECT_EQ(second.exit, 0) << second.err;
  EXPECT_EQ(second.err.find("only root"), std::string::npos) << second.err;
  set("snapshot", "require");
  Ran third = desk.kestrum({"run", "desk"});
  EXPECT_EQ(third.exit, 3) << third.err;
  EXPECT_NE(third.err.find("only root"), std::string::npos) << third.err;
}

TEST(SnapshotsElsewhere, AreNotMissedUnlessTheyAreRequired) {
  Desk desk;
  put_file(desk.source() + "/file", "1");
  desk.define({"--protection", "none"});
  EXPECT_EQ(desk.kestrum({"run", "desk"}).exit, 0);
  ASSERT_EQ(desk.kestrum({"job", "set", "desk", "source.snapshot", "require"}).exit, 0);
  Ran ran = desk.kestrum({"run", "desk"});
  EXPECT_EQ(ran.exit, 3) << ran.out;
  EXPECT_NE(ran.err.find("no snapshot of " + desk.source()), std::string::npos) << ran.err;
  EXPECT_EQ(desk.kestrum({"job", "set", "desk", "source.snapshot", "perhaps"}).exit, 2);
}

}  // namespace
}  // namespace kestrum::test
