#include <SQLiteCpp/SQLiteCpp.h>
#include <gtest/gtest.h>

#include <random>

#include "kestrum/machine/index.h"
#include "kestrum/machine/state_ahead.h"
#include "support/temp_folder.h"

namespace kestrum {
namespace {

IndexEntry journalled(const std::string& path, const std::string& content, std::uint64_t offset) {
  IndexEntry entry;
  entry.line.entry.path = path;
  entry.line.entry.size = content.size();
  entry.line.digest = digest_of(as_bytes(content));
  entry.line.tar_offset = offset;
  return entry;
}

void seal(Index& index, SetId id, SetKind kind, std::optional<SetId> base, std::uint64_t lines) {
  index.set_pending({id, kind, base, 0, {}, std::vector<Lacking>{}, {}, {}, lines});
  index.apply_pending({});
}

std::string paths_in(Index& index) {
  std::string paths;
  index.each_journal([&](const IndexEntry& entry) { paths += entry.line.entry.path + " "; });
  return paths;
}

std::string located(const std::optional<ContentLocation>& location) {
  return location ? location->path + "@" + std::to_string(location->tar_offset) : "none";
}

// Beside it a journal as a map would keep it, in any order, with entries that are put again,
// dropped and looked for.
TEST(Journal, IsReadInPathOrderInWhateverOrderItWasWritten) {
  std::mt19937 random(7);
  for (int round = 0; round < 40; ++round) {
    Index index(":memory:");
    index.journal_start();
    std::map<std::string, std::uint64_t> model;
    bool in_order = round % 2 == 0;
    for (int step = 0; step < 60; ++step) {
      std::string path = "f" + std::to_string(100 + (in_order ? step : int(random() % 60)));
      int what = in_order && step < 50 ? 0 : static_cast<int>(random() % 4);
      if (what < 2) {
        index.journal_put(journalled(path, path, random() % 1000));
        model[path] = 0;
      } else if (what == 2) {
        index.journal_drop(path);
        model.erase(path);
      } else {
        EXPECT_EQ(index.journal_find(path).has_value(), model.contains(path)) << path;
      }
    }
    std::string expected;
    for (const auto& [path, unused] : model) expected += path + " ";
    EXPECT_EQ(paths_in(index), expected) << "round " << round;
    seal(index, {1, 0}, SetKind::kFull, std::nullopt, model.size());
    std::string known;
    auto cursor = index.state_at({1, 0});
    IndexEntry entry;
    while (cursor.next(entry)) known += entry.line.entry.path + " ";
    EXPECT_EQ(known, expected);
  }
}

TEST(Journal, LeadsToAnEntryOfTheSameContentAndIfWantedTheSameMetadata) {
  Index index(":memory:");
  index.journal_start();
  IndexEntry first = journalled("a", "words", 0);
  first.line.entry.mode = 0600;
  index.journal_put(first);
  Entry other = first.line.entry;
  Digest digest = *first.line.digest;
  EXPECT_EQ(located(index.journal_duplicate(other, digest, true)), "a@0");
  other.mode = 0644;
  EXPECT_EQ(located(index.journal_duplicate(other, digest, true)), "none");
  EXPECT_EQ(located(index.journal_duplicate(other, digest, false)), "a@0");
  EXPECT_EQ(located(index.journal_duplicate(other, digest_of(as_bytes("other")), false)), "none");
  other.size = 6;  // a guess is confirmed
  EXPECT_EQ(located(index.journal_duplicate(other, digest, false)), "none");

  // What changed while it was read leads nobody, nor does what lies elsewhere.
  IndexEntry unsettled = journalled("b", "moving", 512);
  unsettled.unsettled = true;
  index.journal_put(unsettled);
  IndexEntry elsewhere = journalled("c", "in an earlier set", 1024);
  elsewhere.line.in_set = SetId{1, 0};
  index.journal_put(elsewhere);
  for (const IndexEntry& entry : {unsettled, elsewhere}) {
    EXPECT_FALSE(index.journal_duplicate(entry.line.entry, *entry.line.digest, false));
  }
  unsettled.unsettled = false;
  unsettled.line.tar_offset = 2048;
  index.journal_put(unsettled);
  EXPECT_EQ(located(index.journal_duplicate(unsettled.line.entry, *unsettled.line.digest, true)),
            "b@2048");
  index.roll_back();
  index.journal_start();
  EXPECT_FALSE(index.journal_duplicate(first.line.entry, digest, false)) << "of the set before";
}

TEST(Journal, NotesTheSizesOfLargeFiles) {
  Index index(":memory:");
  index.journal_start();
  IndexEntry large = journalled("a", "x", 0);
  large.line.entry.size = kNotedAbove + 5;
  large.line.entry.mtime = FileTime(Nanos{1'700'000'000'000'000'005});
  EXPECT_FALSE(index.journal_has_size(large.line.entry.size, std::nullopt));
  index.journal_put(large);
  EXPECT_TRUE(index.journal_has_size(large.line.entry.size, std::nullopt));
  EXPECT_TRUE(index.journal_has_size(large.line.entry.size, large.line.entry.mtime));
  EXPECT_FALSE(index.journal_has_size(large.line.entry.size, FileTime(Nanos{5})));
  EXPECT_FALSE(index.journal_has_size(large.line.entry.size + 1, std::nullopt));
}

TEST(ContentTable, ForgetsWhatIsOldBeforeItGrows) {
  ContentTable table;
  constexpr std::uint32_t kMany = 3 << 20;
  auto digest = [](std::uint32_t number) {
    Digest made{};
    put_le32(made.data(), number * 2654435761U);
    return made;
  };
  for (std::uint32_t number = 1; number <= kMany; ++number) table.put(digest(number), 0, number);
  auto right = [&](std::uint32_t from, std::uint32_t to) {
    std::uint32_t found = 0;
    for (std::uint32_t number = from; number < to; ++number) {
      found += table.find(digest(number), 0) == number;
    }
    return found;
  };
  EXPECT_GT(right(kMany - 10'000, kMany), 9'900U);
  EXPECT_LT(right(1, 10'000), 5'000U);
}

// An index of the version before, with a set that is pending: all of it is kept.
TEST(Journal, OfTheVersionBeforeIsGoneOnWith) {
  test::TempFolder folder;
  std::string path = folder / "index.sqlite";
  {
    Index index(path);
    index.journal_start();
    index.journal_put(journalled("a", "1", 0));
    seal(index, {1, 0}, SetKind::kFull, std::nullopt, 1);
    index.journal_start();
    for (const char* name : {"a", "b"}) index.journal_put(journalled(name, "22", 512));
    EXPECT_FALSE(index.journal_find("c"));  // which puts it into rows, as they were
    index.journal_done();
  }
  {
    SQLite::Database old(path, SQLite::OPEN_READWRITE);
    old.exec(
        "ALTER TABLE journal RENAME TO j; CREATE TABLE journal(key BLOB PRIMARY KEY, type INTEGER"
        " NOT NULL, size INTEGER NOT NULL, mtime INTEGER NOT NULL, ctime INTEGER NOT NULL, inode"
        " INTEGER NOT NULL, mode INTEGER NOT NULL, owner INTEGER NOT NULL, digest BLOB, extra"
        " BLOB, flags INTEGER NOT NULL, link_group INTEGER NOT NULL, tar_offset INTEGER, in_set"
        " INTEGER, in_key BLOB, link_offset INTEGER) WITHOUT ROWID;"
        "CREATE INDEX journal_content ON journal(size, substr(digest, 1, 8)) WHERE digest IS NOT"
        " NULL;"
        "INSERT INTO journal SELECT key, type, size, mtime, ctime, inode, mode, owner, digest,"
        " extra, flags, link_group, tar_offset, in_set, in_key, link_offset FROM j; DROP TABLE j;"
        "DROP TABLE journal_mark; ALTER TABLE sets ADD COLUMN pending INTEGER NOT NULL DEFAULT 0;"
        "INSERT INTO sets SELECT sequence + 1, 1, sequence, started, roots, NULL, ledger, 2, "
        "lacking,"
        " suspect_why, 1 FROM sets;"
        "PRAGMA user_version = 6");
  }
  Index index(path);
  EXPECT_EQ(paths_in(index), "a b ");
  ASSERT_TRUE(index.pending());
  EXPECT_EQ(index.sets().size(), 1U);
  index.apply_pending({});
  EXPECT_EQ(index.find({1, 0}, "a")->line.entry.size, 1U);
  EXPECT_EQ(index.find({1, 1}, "a")->line.entry.size, 2U);
  EXPECT_TRUE(index.find({1, 1}, "b"));
}

class ReadsTheStateAhead : public testing::Test {
 protected:
  static std::string name(int number) { return "f" + std::to_string(100'000 + number); }
  void SetUp() override {
    index.journal_start();
    for (int number = 0; number < kFiles; ++number) {
      index.journal_put(journalled(name(number), name(number), 512 * std::uint64_t(number)));
    }
    seal(index, {1, 0}, SetKind::kFull, std::nullopt, kFiles);
  }
  static constexpr int kFiles = 3000;
  test::TempFolder folder;
  Index index{folder / "index.sqlite"};
};

TEST_F(ReadsTheStateAhead, GivesTheStateInOrderWhateverIsWrittenMeanwhile) {
  StateAhead ahead(index.reader(), {1, 0});
  index.journal_start();
  auto cursor = index.state_at({1, 0});
  IndexEntry expected, entry;
  while (cursor.next(expected)) {
    ASSERT_TRUE(ahead.next(entry));
    ASSERT_EQ(entry.line.entry.path, expected.line.entry.path);
    ASSERT_EQ(entry.line.digest, expected.line.digest);
    ASSERT_EQ(entry.version, expected.version);
    index.journal_put(journalled(entry.line.entry.path, "new", 0));
  }
  EXPECT_FALSE(ahead.next(entry));
  EXPECT_FALSE(ahead.next(entry));
}

TEST_F(ReadsTheStateAhead, CanBeLeftInTheMiddle) {
  for (int read : {0, 1, 600, kFiles}) {
    StateAhead ahead(index.reader(), {1, 0});
    IndexEntry entry;
    for (int number = 0; number < read; ++number) ASSERT_TRUE(ahead.next(entry));
  }
}

TEST_F(ReadsTheStateAhead, PassesOnWhatGoesWrong) {
  auto reader = index.reader();
  SQLite::Database(folder / "index.sqlite", SQLite::OPEN_READWRITE).exec("DROP TABLE version");
  StateAhead ahead(std::move(reader), {1, 0});
  IndexEntry entry;
  EXPECT_THROW(while (ahead.next(entry)){}, std::exception);
}

TEST(Reader, IsNoneOfAnIndexInMemory) {
  EXPECT_EQ(Index(":memory:").reader(), nullptr);
}

// Folders that are passed by: what is beside them is still there.
TEST(Cursor, PassesBy) {
  Index index(":memory:");
  index.journal_start();
  std::uint64_t lines = 0;
  for (const char* path : {"a", "a/b", "a/b/c", "a/b-c", "a/d", "e", "e/f"}) {
    index.journal_put(journalled(path, path, 0));
    ++lines;
  }
  seal(index, {1, 0}, SetKind::kFull, std::nullopt, lines);
  auto without = [&](const std::string& passed, const std::string& below) {
    std::string paths;
    auto cursor = index.state_at({1, 0}, below);
    IndexEntry entry;
    while (cursor.next(entry)) {
      paths += entry.line.entry.path + " ";
      if (entry.line.entry.path == passed) cursor.skip_below(passed);
    }
    return paths;
  };
  EXPECT_EQ(without("", "a"), "a a/b a/b/c a/b-c a/d ");
  EXPECT_EQ(without("a/b", "a"), "a a/b a/b-c a/d ");
  EXPECT_EQ(without("a/b", ""), "a a/b a/b-c a/d e e/f ");
  EXPECT_EQ(without("a", ""), "a e e/f ");
  EXPECT_EQ(without("a", "a"), "a ");
}

}  // namespace
}  // namespace kestrum
