#include "kestrum/machine/pending_set.h"

#include <gtest/gtest.h>

#include <filesystem>
#include <map>
#include <random>

#include "kestrum/base/error.h"
#include "kestrum/base/file.h"
#include "kestrum/machine/index.h"
#include "kestrum/machine/index_compare.h"
#include "support/temp_folder.h"

namespace kestrum {
namespace {

using Files = std::map<std::string, std::string>;  // path, content

IndexedSet described(SetId id, SetKind kind, std::optional<SetId> base, std::uint64_t lines) {
  return {id, kind, base, 0, {}, std::vector<Lacking>{}, {}, {}, lines};
}

// A folder with an index, closed and opened again at will.
class Pending : public testing::Test {
 protected:
  void journal(const Files& files) {
    index->journal_start();
    std::uint64_t offset = 0;
    for (const auto& [name, content] : files) {
      IndexEntry entry;
      entry.line.entry.path = name;
      entry.line.entry.size = content.size();
      entry.line.digest = digest_of(as_bytes(content));
      entry.line.tar_offset = offset += 512;
      index->journal_put(entry);
    }
    index->journal_done();
  }
  void pend(SetId id, SetKind kind, std::optional<SetId> base, const Files& files) {
    journal(files);
    index->set_pending(described(id, kind, base, files.size()));
  }
  void reopen() {
    index.reset();
    index.emplace(path);
  }
  static std::string state(Index& of, SetId id) {
    std::string text;
    auto cursor = of.state_at(id);
    IndexEntry entry;
    while (cursor.next(entry))
      text += entry.line.entry.path + ":" + std::to_string(entry.line.entry.size) + " ";
    return text;
  }

  test::TempFolder folder;
  std::string path = folder / "index.sqlite";
  std::string file = path + kPendingSuffix;
  std::optional<Index> index{path};
};

TEST_F(Pending, OutlastsTheProcess) {
  pend({1, 0}, SetKind::kFull, std::nullopt, {{"a", "1"}});
  index->apply_pending({});
  EXPECT_FALSE(path_exists(file));
  journal({{"a", "22"}, {"b", "333"}});
  IndexedSet set = described({1, 1}, SetKind::kIncremental, SetId{1, 0}, 2);
  set.roots = {{"/home/desk", false}, {"/odd \xff", true}};
  set.lacking.emplace().push_back({"gone \xfe", SetId{1, 0}});
  set.suspect_why = "too much turned in \xfd";
  set.ledger_digest = digest_of(as_bytes("its ledger"));
  index->set_pending(set);
  reopen();
  auto pending = index->pending();
  ASSERT_TRUE(pending);
  EXPECT_EQ(pending->set, set.set);
  EXPECT_EQ(pending->based_on, set.based_on);
  EXPECT_EQ(root_paths(*pending), root_paths(set));
  EXPECT_TRUE(pending->roots[1].absent);
  EXPECT_EQ(pending->lacking->at(0).path, "gone \xfe");
  EXPECT_EQ(pending->suspect_why, set.suspect_why);
  EXPECT_EQ(pending->ledger_digest, set.ledger_digest);
  EXPECT_EQ(index->sets().size(), 1U) << "it is none yet";
  index->apply_pending({});
  EXPECT_EQ(state(*index, {1, 1}), "a:2 b:3 ");
  EXPECT_EQ(index->newest()->suspect_why, set.suspect_why);
}

// Also one that has no lines at all, which any journal would do for.
TEST_F(Pending, IsOfTheJournalThatItNames) {
  pend({1, 0}, SetKind::kFull, std::nullopt, {});
  index.reset();
  std::filesystem::remove(path);
  index.emplace(path);
  EXPECT_FALSE(index->pending());
  EXPECT_THROW(index->apply_pending({}), Error);
  EXPECT_TRUE(index->sets().empty());
}

TEST_F(Pending, IsNoMoreOnceItWasTakenIn) {
  pend({1, 0}, SetKind::kFull, std::nullopt, {{"a", "1"}});
  std::string text = read_file(file);
  index->apply_pending({});
  write_file(file, text);  // ended before it was removed
  reopen();
  EXPECT_FALSE(index->pending());
  pend({1, 1}, SetKind::kIncremental, SetId{1, 0}, {{"b", "1"}});
  EXPECT_EQ(index->pending()->set, (SetId{1, 1}));
}

TEST_F(Pending, WhatIsNoneCountsAsNone) {
  for (const char* text : {"", "{}", "no json", "[]", "{\"kind\": \"full\", \"ledger\": \"00\"}"}) {
    pend({1, 0}, SetKind::kFull, std::nullopt, {{"a", "1"}});
    write_file(file, text);
    EXPECT_FALSE(index->pending()) << text;
    index->drop_pending();
  }
  pend({1, 0}, SetKind::kFull, std::nullopt, {{"a", "1"}});
  index->apply_pending({});
  EXPECT_EQ(state(*index, {1, 0}), "a:1 ");
}

TEST_F(Pending, IsNotSeenBeforeItIsSealed) {
  pend({1, 0}, SetKind::kFull, std::nullopt, {{"a", "1"}, {"b", "1"}});
  index->apply_pending({});
  for (bool sealed : {false, true}) {
    journal({{"a", "22"}, {"c", "1"}});
    index->prepare_pending({1, 1}, SetKind::kIncremental, SetId{1, 0});
    index->set_pending(described({1, 1}, SetKind::kIncremental, SetId{1, 0}, 2));
    std::unique_ptr<Index> reader = index->reader();
    EXPECT_EQ(reader->sets().size(), 1U);
    EXPECT_EQ(reader->history_of("a").size(), 1U);
    reader.reset();
    sealed ? index->apply_pending({}) : index->drop_pending();
    EXPECT_EQ(state(*index, {1, 0}), "a:1 b:1 ");
    EXPECT_EQ(index->history_of("a").size(), sealed ? 2U : 1U);
  }
  EXPECT_EQ(state(*index, {1, 1}), "a:2 b:1 c:1 ");
}

// Random sets, which two indexes learn of: one at the end, by looking every path up, the other
// prepared, given up and dropped before, or by a process that ends in between.
TEST_F(Pending, IsTakenInAlikeHoweverItWasPrepared) {
  std::mt19937 random(11);
  std::string other_path = folder / "other.sqlite";
  std::optional<Index> other{other_path};
  SetId id{0, 0};
  for (int round = 0; round < 60; ++round) {
    bool full = round == 0 || random() % 8 == 0;
    std::optional<SetId> base;
    SetKind kind = SetKind::kFull;
    if (full) {
      id = {id.chain + 1, 0};
    } else {
      kind = random() % 3 == 0 ? SetKind::kDifferential : SetKind::kIncremental;
      base = kind == SetKind::kDifferential ? SetId{id.chain, 0} : id;
      ++id.link;
    }
    std::vector<IndexEntry> entries;
    for (int number = 100; number < 140; ++number) {
      if (!full && random() % 4 != 0) continue;
      IndexEntry entry;
      entry.line.entry.path = "f" + std::to_string(number);
      bool known = other->find(base.value_or(id), entry.line.entry.path).has_value();
      if (random() % 5 == 0) {
        if (full || !known) continue;
        entry.line.entry.type = EntryType::kGone;
      } else {
        std::string content(1 + random() % 3, 'x');
        entry.line.entry.size = content.size();
        entry.line.digest = digest_of(as_bytes(content));
        entry.line.tar_offset = entries.size() * 512;
        entry.inode = random() % 3;
      }
      entries.push_back(entry);
    }
    IndexedSet set = described(id, kind, base, entries.size());
    for (Index* each : {&*index, &*other}) {
      each->journal_start();
      if (each == &*other) each->journal_find("");  // by keys: no short cut
      for (const IndexEntry& entry : entries) each->journal_put(entry);
      each->journal_done();
    }
    if (random() % 4 != 0) index->prepare_pending(id, kind, base);
    if (random() % 4 == 0) {
      index->roll_back();
      if (random() % 2 == 0) index->prepare_pending(id, kind, base);
    }
    index->set_pending(set);
    if (random() % 4 == 0) reopen();
    other->set_pending(set);
    index->apply_pending({});
    other->apply_pending({});
    ASSERT_EQ(state(*index, id), state(*other, id)) << "round " << round;
    Index again(path);
    ASSERT_EQ(compare_indexes(again, other_path), std::vector<std::string>{}) << "round " << round;
  }
}

}  // namespace
}  // namespace kestrum
