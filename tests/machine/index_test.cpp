#include "kestrum/machine/index.h"

#include <gtest/gtest.h>

#include "kestrum/base/error.h"
#include "kestrum/base/file.h"
#include "support/faulty_state.h"
#include "support/temp_folder.h"

namespace kestrum {
namespace {

LedgerEntry indexed_file(const std::string& path, const std::string& content,
                         std::uint64_t offset) {
  LedgerEntry line;
  line.entry.path = path;
  line.entry.size = content.size();
  line.digest = digest_of(as_bytes(content));
  line.tar_offset = offset;
  return line;
}

// The index as a sequence of sets writes it.
class Indexed : public testing::Test {
 protected:
  void write(SetId id, SetKind kind, std::optional<SetId> base,
             const std::vector<LedgerEntry>& entries) {
    index.journal_start();
    for (const LedgerEntry& line : entries) {
      IndexEntry entry;
      entry.line = line;
      index.journal_put(entry);
    }
    index.set_pending({id, kind, base, 0, {}, std::vector<Lacking>{}, {}, {}, entries.size()});
    index.apply_pending({});
  }
  LedgerEntry gone(const std::string& path) {
    LedgerEntry line;
    line.entry.path = path;
    line.entry.type = EntryType::kGone;
    return line;
  }
  std::string state(SetId id) {
    std::string text;
    auto cursor = index.state_at(id);
    IndexEntry entry;
    while (cursor.next(entry))
      text += entry.line.entry.path + ":" + std::to_string(entry.line.entry.size) + " ";
    return text;
  }
  Index index{":memory:"};
};

TEST_F(Indexed, KeepsTheStateOfEverySet) {
  write({1, 0}, SetKind::kFull, std::nullopt,
        {indexed_file("a", "1", 0), indexed_file("b", "22", 512)});
  write({1, 1}, SetKind::kIncremental, SetId{1, 0}, {indexed_file("a", "4444", 0), gone("b")});
  write({1, 2}, SetKind::kIncremental, SetId{1, 1}, {indexed_file("c", "333", 0)});
  EXPECT_EQ(state({1, 0}), "a:1 b:2 ");
  EXPECT_EQ(state({1, 1}), "a:4 ");
  EXPECT_EQ(state({1, 2}), "a:4 c:3 ");
  auto history = index.history_of("b");
  ASSERT_EQ(history.size(), 1U);
  EXPECT_EQ(history[0].ended, EntryType::kGone);
}

// Found by the model, seeds 432 and 523.
TEST_F(Indexed, WhatBecameOfAPathIsKnownWhenTheSetsInBetweenArePruned) {
  LedgerEntry left_out = gone("a");
  left_out.entry.type = EntryType::kLeftOut;
  write({1, 0}, SetKind::kFull, std::nullopt,
        {indexed_file("a", "1", 0), indexed_file("b", "22", 512)});
  write({1, 1}, SetKind::kIncremental, SetId{1, 0}, {indexed_file("a", "4444", 0), gone("b")});
  write({1, 2}, SetKind::kIncremental, SetId{1, 1}, {indexed_file("b", "333", 512)});
  write({1, 3}, SetKind::kDifferential, SetId{1, 0}, {left_out, gone("b")});
  index.forget({SetId{1, 1}, SetId{1, 2}});
  index.sweep();
  for (const auto& [path, ended] :
       {std::pair{"a", EntryType::kLeftOut}, std::pair{"b", EntryType::kGone}}) {
    auto history = index.history_of(path);
    ASSERT_EQ(history.size(), 1U) << path;
    EXPECT_EQ(history[0].until, (SetId{1, 3})) << path;
    EXPECT_EQ(history[0].ended, ended) << path;
  }
  EXPECT_EQ(state({1, 0}), "a:1 b:2 ");
  EXPECT_EQ(state({1, 3}), "");
}

TEST_F(Indexed, ADifferentialGoesBackToItsBaseWhateverCameBetween) {
  write({1, 0}, SetKind::kFull, std::nullopt,
        {indexed_file("a", "1", 0), indexed_file("b", "22", 512), indexed_file("z", "9", 999)});
  write({1, 1}, SetKind::kDifferential, SetId{1, 0},
        {indexed_file("a", "4444", 0), gone("b"), indexed_file("n", "55555", 0)});
  // "a" and "b" are as in the full set again, "n" is not there any more.
  write({1, 2}, SetKind::kDifferential, SetId{1, 0}, {});
  EXPECT_EQ(state({1, 1}), "a:4 n:5 z:1 ");
  EXPECT_EQ(state({1, 2}), "a:1 b:2 z:1 ");
  write({1, 3}, SetKind::kIncremental, SetId{1, 2}, {indexed_file("n", "666666", 0)});
  EXPECT_EQ(state({1, 3}), "a:1 b:2 n:6 z:1 ");
  EXPECT_EQ(state({1, 1}), "a:4 n:5 z:1 ");
  auto where = index.find_content(1, digest_of(as_bytes("1")), {SetId{1, 0}.sequence()});
  ASSERT_TRUE(where);
  EXPECT_EQ(where->path, "a");
}

TEST_F(Indexed, AFullSetForgetsWhatItDoesNotListAndKeepsOneRowForWhatStays) {
  write({1, 0}, SetKind::kFull, std::nullopt,
        {indexed_file("a", "1", 0), indexed_file("b", "22", 512)});
  write({2, 0}, SetKind::kFull, std::nullopt, {indexed_file("a", "1", 1024)});
  EXPECT_EQ(state({2, 0}), "a:1 ");
  EXPECT_EQ(state({1, 0}), "a:1 b:2 ");
  ASSERT_EQ(index.history_of("a").size(), 1U) << "one row as long as nothing changes";
  auto found = index.find({2, 0}, "a");
  EXPECT_EQ(index.location_of(found->version, {SetId{2, 0}.sequence()})->tar_offset, 1024U);
  EXPECT_EQ(index.location_of(found->version, {SetId{1, 0}.sequence()})->tar_offset, 0U);
}

TEST_F(Indexed, ContentThatIsStoredAnewIsTakenFromThereOn) {
  Seal seal;
  seal.set = {1, 0};
  seal.parts = {{"part-000001.tar", 100, 0, {}}, {"part-000002.tar", 100, 20'000, {}}};
  DamagedContent damaged;
  damaged.add(seal, 1);
  write({1, 0}, SetKind::kFull, std::nullopt,
        {indexed_file("a", "1", 0), indexed_file("b", "22", 19'000),
         indexed_file("c", "333", 30'000)});
  EXPECT_FALSE(damaged.reached_by({{1, 0}, 0, "a"}, 1));
  EXPECT_TRUE(damaged.reached_by({{1, 0}, 0, "a"}, 15'000)) << "its end lies there";
  EXPECT_TRUE(damaged.reached_by({{1, 0}, 30'000, "c"}, 3));
  EXPECT_FALSE(damaged.reached_by({{1, 1}, 30'000, "c"}, 3)) << "of another set";
  std::vector<std::int64_t> full = {SetId{1, 0}.sequence()};
  EXPECT_TRUE(index.find_content(3, digest_of(as_bytes("333")), full));
  EXPECT_FALSE(index.find_content(3, digest_of(as_bytes("333")), full, damaged));
  write({1, 1}, SetKind::kIncremental, SetId{1, 0}, {indexed_file("c", "333", 512)});
  write({1, 2}, SetKind::kIncremental, SetId{1, 1}, {indexed_file("x", "4444", 0)});
  ASSERT_EQ(index.history_of("c").size(), 1U);
  std::int64_t version = index.find({1, 2}, "c")->version;
  EXPECT_EQ(index.location_of(version, full)->set, (SetId{1, 0}));
  EXPECT_EQ(index.location_of(version, ancestors_of({1, 2}, index.sets()))->set, (SetId{1, 1}));
}

TEST_F(Indexed, ContentIsLookedForAmongAncestorsOnly) {
  write({1, 0}, SetKind::kFull, std::nullopt, {indexed_file("a", "1", 0)});
  write({1, 1}, SetKind::kDifferential, SetId{1, 0}, {indexed_file("b", "sibling", 0)});
  EXPECT_FALSE(index.find_content(7, digest_of(as_bytes("sibling")), {SetId{1, 0}.sequence()}));
  EXPECT_TRUE(
      index.find_content(7, digest_of(as_bytes("sibling")), ancestors_of({1, 1}, index.sets())));
}

TEST_F(Indexed, AMoveIsCountedAsOneAndACrashLeavesNothingPending) {
  write({1, 0}, SetKind::kFull, std::nullopt, {indexed_file("a", "1", 0)});
  index.journal_start();
  IndexEntry left;
  left.line = gone("a");
  left.line.entry.size = 1;
  left.line.digest = digest_of(as_bytes("1"));
  index.journal_put(left);
  IndexEntry moved;
  moved.line = indexed_file("b", "1", 0);
  moved.line.in_set = SetId{1, 0};
  moved.line.in_path = "a";
  moved.moved = true;
  index.journal_put(moved);
  EXPECT_EQ(index.journal_moves(), 1U);
  index.roll_back();
  EXPECT_FALSE(index.pending());
  EXPECT_EQ(state({1, 0}), "a:1 ");
}

TEST_F(Indexed, NothingDropsTheJournalOfAPendingSet) {
  write({1, 0}, SetKind::kFull, std::nullopt, {indexed_file("a", "1", 0)});
  index.journal_start();
  IndexEntry changed;
  changed.line = indexed_file("a", "22", 0);
  index.journal_put(changed);
  index.set_pending(
      {{1, 1}, SetKind::kIncremental, SetId{1, 0}, 0, {}, std::vector<Lacking>{}, {}, {}, 1});
  EXPECT_THROW(index.journal_start(), Error);
  EXPECT_THROW(index.journal_start(BegunSet{}), Error);
  EXPECT_THROW(index.drop_begun(), Error);
  EXPECT_THROW(index.carry_over(0), Error);
  index.apply_pending({});
  EXPECT_EQ(state({1, 1}), "a:2 ");
}

TEST_F(Indexed, AJournalThatIsNotWholeIsNotTakenForASet) {
  write({1, 0}, SetKind::kFull, std::nullopt, {indexed_file("a", "1", 0)});
  index.journal_start();
  index.set_pending(
      {{1, 1}, SetKind::kIncremental, SetId{1, 0}, 0, {}, std::vector<Lacking>{}, {}, {}, 1});
  EXPECT_THROW(index.apply_pending({}), Error);
  ASSERT_TRUE(index.pending());
  index.drop_pending();
  EXPECT_FALSE(index.has({1, 1})) << "unknown, and so read again";
  EXPECT_EQ(state({1, 0}), "a:1 ");
}

// ---- Opening

class IndexFile : public testing::Test {
 protected:
  std::string one_set() {
    Index index(path);
    index.journal_start();
    index.set_pending(
        {{1, 0}, SetKind::kFull, std::nullopt, 0, {}, std::vector<Lacking>{}, {}, {}, 0});
    index.apply_pending({});
    return read_file(path);
  }
  void expect_kept(const std::string& before) {
    EXPECT_EQ(read_file(path), before);
    EXPECT_TRUE(Index(path).has({1, 0}));
  }
  test::TempFolder folder;
  std::string path = folder / "index.sqlite";
};

TEST_F(IndexFile, IsReplacedOnlyIfItIsNoDatabaseOrBroken) {
  one_set();
  test::put_file(path, std::string(8192, 'x'));
  EXPECT_FALSE(Index(path).has({1, 0})) << "an empty one in its place";
}

TEST_F(IndexFile, StaysWhenTheSystemHasNoMoreFilesToOpen) {
  std::string before = one_set();
  test::FaultyState state(folder / "");
  for (int call = 0; call < 12; ++call) {  // SQLite opens several files, and reads
    state.fail_at(call, test::FaultyState::Fault::kOnce);
    try {
      Index index(path);
    } catch (const SQLite::Exception&) {
      // Told, whatever it is.
    }
    state.heal();
    ASSERT_TRUE(path_exists(path));
    EXPECT_TRUE(Index(path).has({1, 0})) << "call " << call;
  }
}

TEST_F(IndexFile, OfALaterVersionIsLeftAlone) {
  one_set();
  SQLite::Database(path, SQLite::OPEN_READWRITE).exec("PRAGMA user_version = 99");
  std::string before = read_file(path);
  EXPECT_THROW(Index{path}, Error);
  EXPECT_EQ(read_file(path), before);
  SQLite::Database(path, SQLite::OPEN_READWRITE).exec("PRAGMA user_version = 6");
  EXPECT_TRUE(Index(path).has({1, 0}));
}

TEST_F(IndexFile, OfAnEarlierVersionIsMadeAnew) {
  {
    SQLite::Database old(path, SQLite::OPEN_READWRITE | SQLite::OPEN_CREATE);
    old.exec("CREATE TABLE sets(sequence INTEGER PRIMARY KEY, pending INTEGER)");
    old.exec("INSERT INTO sets VALUES(1048576, 0)");
    old.exec("PRAGMA user_version = 2");
  }
  EXPECT_TRUE(Index(path).sets().empty());
}

}  // namespace
}  // namespace kestrum
