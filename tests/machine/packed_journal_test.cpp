#include "kestrum/machine/packed_journal.h"

#include <gtest/gtest.h>

#include <random>

#include "kestrum/machine/index.h"
#include "kestrum/machine/index_rows.h"
#include "kestrum/machine/journal_row.h"
#include "support/temp_folder.h"

namespace kestrum {
namespace {

using Random = std::mt19937_64;

std::string some_bytes(Random& random, std::size_t least) {
  std::size_t most = random() % 50 == 0 ? 20'000 : 60;
  std::string bytes(least + random() % most, '\0');
  for (char& byte : bytes) byte = static_cast<char>(random());
  return bytes;
}

std::uint64_t some_number(Random& random) {
  return random() % 8 == 0 ? ~std::uint64_t{0} : random() >> random() % 64;
}

FileTime some_time(Random& random) {
  auto seconds = static_cast<std::int64_t>(random() >> random() % 63);
  return {random() % 2 == 0 ? seconds : -seconds, static_cast<std::uint32_t>(random() % kSecond)};
}

SetId some_set(Random& random) {
  return {static_cast<std::uint32_t>(random() % 1000), static_cast<std::uint32_t>(random() % 1000)};
}

// An entry with all that a row of the journal may hold, or little of it.
IndexEntry some_entry(Random& random, const std::string& path) {
  IndexEntry entry;
  LedgerEntry& line = entry.line;
  Entry& e = line.entry;
  auto perhaps = [&] { return random() % 3 == 0; };
  e.path = path;
  e.type = perhaps() ? EntryType::kLink : EntryType::kFile;
  e.size = some_number(random);
  e.mtime = some_time(random);
  e.ctime = some_time(random);
  e.mode = random() % 010000;
  e.uid = random() % 3;
  e.gid = static_cast<std::uint32_t>(random());
  if (perhaps()) e.user = some_bytes(random, 1);
  if (perhaps()) e.target = some_bytes(random, 1);
  if (perhaps()) e.xattrs["user." + std::to_string(random() % 9)] = some_bytes(random, 0);
  e.holes = perhaps();
  if (perhaps()) e.link_group = some_number(random);
  line.mount = perhaps();
  line.noise = perhaps();
  line.disk = static_cast<std::uint16_t>(random());
  entry.inode = some_number(random);
  entry.unsure = perhaps();
  entry.index_only = perhaps();
  entry.moved = perhaps();
  entry.unsettled = perhaps();
  if (!perhaps()) line.digest = digest_of(as_bytes(some_bytes(random, 0)));
  if (!perhaps()) line.tar_offset = random() >> 1;
  if (perhaps()) line.in_set = some_set(random);
  if (perhaps()) line.in_path = random() % 9 == 0 ? "" : "other/" + std::to_string(random());
  if (perhaps()) entry.link_offset = random() >> 1;
  for (; perhaps();) {
    ContentRange range;
    range.length = 1 + random() % 1'000'000;
    range.hole = perhaps();
    if (!range.hole) range.entry = random() >> 20;
    if (!range.hole && perhaps()) range.set = some_set(random);
    line.ranges.push_back(range);
  }
  return entry;
}

std::string path_of(int number) {
  return number == 0 ? "" : "folder/f" + std::to_string(100'000 + number);
}

// All of an entry, in words.
std::string told(const IndexEntry& entry) {
  const LedgerEntry& line = entry.line;
  const Entry& e = line.entry;
  std::string text = e.path + "|" + type_name(e.type) + "|" + e.user + "|" + e.target;
  for (std::uint64_t number :
       {e.size, static_cast<std::uint64_t>(e.mtime.seconds), std::uint64_t{e.mtime.nanos},
        static_cast<std::uint64_t>(e.ctime.seconds), std::uint64_t{e.ctime.nanos},
        std::uint64_t{e.mode}, std::uint64_t{e.uid}, std::uint64_t{e.gid}, e.link_group,
        entry.inode, static_cast<std::uint64_t>(row_flags(entry)), line.tar_offset.value_or(7),
        line.in_set ? static_cast<std::uint64_t>(line.in_set->sequence()) : 7,
        entry.link_offset.value_or(7)}) {
    text += "|" + std::to_string(number);
  }
  for (const auto& [name, value] : e.xattrs) text += "|" + name + "=" + value;
  if (line.digest) text += std::string("|") + std::string(as_text(*line.digest));
  return text + "|" + line.in_path.value_or("none") + "|" + pack_ranges(line.ranges);
}

std::vector<std::string> told(Index& index) {
  std::vector<std::string> lines;
  index.each_journal([&](const IndexEntry& entry) { lines.push_back(told(entry)); });
  return lines;
}

// Packed or in rows, over checkpoints, for another connection and in another process.
TEST(PackedJournal, TellsWhatWasPut) {
  Random random(3);
  for (int round = 0; round < 20; ++round) {
    test::TempFolder folder;
    std::string path = folder / "index.sqlite";
    std::vector<std::string> put;
    std::optional<Index> index{path};
    index->journal_start(BegunSet{});
    std::size_t count = random() % (round % 4 == 0 ? 3 : 600);
    for (std::size_t number = 0; number < count; ++number) {
      IndexEntry entry = some_entry(random, path_of(static_cast<int>(number)));
      index->journal_put(entry);
      put.push_back(told(entry));
      if (random() % 100 == 0) index->checkpoint({});
      if (random() % 1000 == 0) index->journal_find("looked for");
    }
    EXPECT_EQ(told(*index), put);
    index->checkpoint({});
    std::size_t lasting = put.size();
    for (std::size_t number = count; number < count + 40; ++number) {
      IndexEntry entry = some_entry(random, path_of(static_cast<int>(number)));
      index->journal_put(entry);
      put.push_back(told(entry));
    }
    if (random() % 2 == 0) {
      index->roll_back();
      put.resize(lasting);
    } else {
      index->journal_done();
    }
    EXPECT_EQ(told(*index), put);
    EXPECT_EQ(told(*index->reader()), put);
    index.reset();
    index.emplace(path);
    EXPECT_EQ(told(*index), put);
    index->journal_find("looked for");
    EXPECT_EQ(told(*index), put);
  }
}

// What content leads to is the same entry, packed or in rows.
TEST(PackedJournal, FindsDuplicatesAsRowsDo) {
  Random random(4);
  test::TempFolder folder;
  Index packed(folder / "packed.sqlite"), rows(folder / "rows.sqlite");
  packed.journal_start();
  rows.journal_start();
  rows.journal_find("looked for");
  std::size_t found = 0;
  for (int number = 0; number < 3000; ++number) {
    IndexEntry entry = some_entry(random, path_of(number));
    std::string content(random() % 40, 'x');
    entry.line.digest = digest_of(as_bytes(content));
    entry.line.entry.size = content.size();
    entry.line.entry.xattrs.clear();
    entry.line.entry.mtime = {};
    for (bool alike : {false, true}) {
      auto one = packed.journal_duplicate(entry.line.entry, *entry.line.digest, alike);
      auto other = rows.journal_duplicate(entry.line.entry, *entry.line.digest, alike);
      ASSERT_EQ(one.has_value(), other.has_value()) << number;
      found += one.has_value();
      if (!one) continue;
      EXPECT_EQ(one->path, other->path);
      EXPECT_EQ(one->tar_offset, other->tar_offset);
    }
    packed.journal_put(entry);
    rows.journal_put(entry);
  }
  EXPECT_GT(found, 500U);
}

// A database with batches, as the index writes them.
class PackedTable : public testing::Test {
 protected:
  void SetUp() override {
    database.exec(
        "CREATE TABLE journal_batch(first INTEGER PRIMARY KEY, rows INTEGER NOT NULL, packed BLOB"
        " NOT NULL)");
    add_packed_journal(database);
  }
  void put(std::int64_t first, std::int64_t rows, std::string_view packed) {
    SQLite::Statement s(database, "INSERT OR REPLACE INTO journal_batch VALUES(?, ?, ?)");
    s.bind(1, first);
    s.bind(2, rows);
    bind_blob(s, 3, packed);
    s.exec();
  }
  static std::string packed(int from, int to) {
    std::string batch;
    for (int number = from; number < to; ++number) {
      std::string key = "key " + std::to_string(number);
      JournalRow row;
      row.key = key;
      row.size = static_cast<std::uint64_t>(number) * 10;
      row.mtime = {std::int64_t{1} << 40, 5};
      if (number % 2 == 0) row.in_key = "";
      pack_row(batch, row);
    }
    return batch;
  }
  std::int64_t ask(const std::string& sql) { return database.execAndGet(sql).getInt64(); }

  SQLite::Database database{":memory:", SQLite::OPEN_READWRITE | SQLite::OPEN_CREATE};
};

TEST_F(PackedTable, IsEmptyWithoutBatches) {
  EXPECT_EQ(ask("SELECT count(*) FROM packed_journal"), 0);
  EXPECT_EQ(ask("SELECT count(*) FROM packed_journal WHERE id = 1"), 0);
}

// In order, by ids in any order, also where some are missing.
TEST_F(PackedTable, IsReadInOrderAndById) {
  put(1, 10, packed(1, 11));
  put(11, 1, packed(11, 12));
  put(20, 30, packed(20, 50));
  EXPECT_EQ(ask("SELECT count(*) FROM packed_journal"), 41);
  EXPECT_EQ(ask("SELECT sum(size) FROM packed_journal"), 10 * (66 + 34 * 30 + 15));
  EXPECT_EQ(ask("SELECT count(*) FROM packed_journal WHERE in_key IS NULL"), 21);
  EXPECT_EQ(ask("SELECT count(*) FROM packed_journal WHERE in_key = x''"), 20);
  EXPECT_EQ(ask("SELECT count(*) FROM packed_journal WHERE typeof(mtime) = 'blob'"), 41);
  SQLite::Statement ids(database, "SELECT id FROM packed_journal ORDER BY id");
  std::int64_t before = 0;
  for (; ids.executeStep(); before = ids.getColumn(0).getInt64()) {
    EXPECT_LT(before, ids.getColumn(0).getInt64());
  }
  EXPECT_EQ(before, 49);
  database.exec("CREATE TABLE wanted(number INTEGER PRIMARY KEY, id)");
  Random random(5);
  std::int64_t there = 0;
  for (int number = 0; number < 500; ++number) {
    std::int64_t id = static_cast<std::int64_t>(random() % 60) - 3;
    there += (id >= 1 && id <= 11) || (id >= 20 && id < 50);
    database.exec("INSERT INTO wanted(id) VALUES(" + std::to_string(id) + ")");
  }
  for (const char* order : {"number", "w.id", "w.id DESC"}) {
    std::string join =
        std::string(" FROM wanted w CROSS JOIN packed_journal j ON j.id = w.id") +
        " WHERE CAST(j.key AS TEXT) = 'key ' || w.id AND j.size = 10 * w.id ORDER BY ";
    EXPECT_EQ(ask("SELECT count(*) FROM (SELECT w.id" + join + order + ")"), there) << order;
  }
}

// Cut off or counted wrong: an error, and never more than is there.
TEST_F(PackedTable, SaysWhereItIsBroken) {
  const std::string whole = packed(1, 4);
  const char* all = "SELECT coalesce(sum(size), 0) FROM packed_journal";
  for (std::size_t length = 1; length < whole.size(); ++length) {
    put(1, 3, std::string_view(whole).substr(0, length));
    bool at_a_row = length == packed(1, 2).size() || length == packed(1, 3).size();
    if (at_a_row) {
      EXPECT_LT(ask(all), 60);
    } else {
      EXPECT_THROW(ask(all), SQLite::Exception) << length;
    }
    EXPECT_THROW(ask("SELECT size FROM packed_journal WHERE id = 3"), SQLite::Exception) << length;
  }
  put(1, 3, "");
  EXPECT_THROW(ask("SELECT size FROM packed_journal WHERE id = 1"), SQLite::Exception);
  Random random(6);
  for (int round = 0; round < 5000; ++round) {
    std::string damaged = whole;
    for (std::uint64_t left = 1 + random() % 3; left > 0; --left) {
      damaged[random() % damaged.size()] = static_cast<char>(random());
    }
    put(1, 1 + static_cast<std::int64_t>(random() % 5), damaged);
    for (const char* sql : {all,
                            "SELECT coalesce(sum(length(key)) + max(tar_offset), 0) FROM"
                            " packed_journal WHERE id = 2"}) {
      try {
        ask(sql);
      } catch (const SQLite::Exception&) {
      }
    }
  }
}

}  // namespace
}  // namespace kestrum
