#include "kestrum/machine/content_key.h"

#include <gtest/gtest.h>

#include "kestrum/machine/index.h"
#include "kestrum/machine/index_rows.h"
#include "support/temp_folder.h"

namespace kestrum {
namespace {

constexpr std::uint64_t kGigabyte = 1'000'000'000;

Digest digest_like(std::uint8_t begin, std::uint8_t end) {
  Digest digest{};
  digest.front() = begin;
  digest.back() = end;
  return digest;
}

TEST(ContentKey, GrowsWithTheSizeAndStaysWithinThoseOfItsSize) {
  std::uint64_t sizes[] = {0, 1, 160, 4096, 2 * kGigabyte};
  std::int64_t before = -1;
  for (std::uint64_t size : sizes) {
    auto [first, last] = content_keys(size);
    EXPECT_GT(first, before);
    Digest most;
    most.fill(0xff);
    EXPECT_EQ(content_key(size, Digest{}), first);
    EXPECT_EQ(content_key(size, most), last);
    before = last;
  }
  EXPECT_GT(content_keys(3 * kGigabyte).first, before);
  EXPECT_EQ(content_keys(3 * kGigabyte), content_keys(std::uint64_t(-1))) << "as long as there is";
}

// What the index finds by content, whichever version of the program made it.
class FoundByContent : public testing::Test {
 protected:
  struct File {
    std::string path;
    std::uint64_t size;
    Digest digest;
  };

  void write(Index& index, SetId set, std::optional<SetId> base) {
    index.journal_start();
    for (const File& file : files) {
      IndexEntry entry;
      entry.line.entry.path = file.path;
      entry.line.entry.size = file.size;
      entry.line.digest = file.digest;
      entry.line.tar_offset = offset_of(file);
      index.journal_put(entry);
    }
    IndexEntry without;
    without.line.entry.path = "folder";
    without.line.entry.type = EntryType::kFolder;
    index.journal_put(without);
    SetKind kind = base ? SetKind::kIncremental : SetKind::kFull;
    index.set_pending({set, kind, base, 0, {}, std::vector<Lacking>{}, {}, {}, files.size() + 1});
    index.apply_pending({});
    sets.push_back(set.sequence());
  }

  std::uint64_t offset_of(const File& file) const {
    return 512 * static_cast<std::uint64_t>(&file - files.data());
  }

  void expect_found(Index& index) {
    for (const File& file : files) {
      auto at = index.find_content(file.size, file.digest, sets);
      ASSERT_TRUE(at) << file.path;
      EXPECT_EQ(at->path, file.path);
      EXPECT_EQ(at->tar_offset, offset_of(file));
      EXPECT_TRUE(index.has_size(file.size, std::nullopt));
      EXPECT_TRUE(index.has_size(file.size, FileTime(Nanos{0})));
      EXPECT_FALSE(index.has_size(file.size, FileTime(Nanos{5})));
      EXPECT_FALSE(index.has_size(file.size + 1, std::nullopt)) << file.path;
      EXPECT_FALSE(index.find_content(file.size + 1, file.digest, sets));
    }
    EXPECT_FALSE(index.find_content(160, digest_like(1, 77), sets));
  }

  // Takes it back to what version 11 of the index was.
  void make_old() const {
    SQLite::Database old(path, SQLite::OPEN_READWRITE);
    old.exec(
        "DROP INDEX version_content; ALTER TABLE version DROP COLUMN content;"
        "CREATE INDEX version_content ON version(size, substr(digest, 1, 8))"
        " WHERE digest IS NOT NULL; PRAGMA user_version = 11");
  }

  std::string plan(const std::string& query) const {
    SQLite::Database database(path);
    SQLite::Statement s(database, "EXPLAIN QUERY PLAN " + query);
    std::string text;
    while (s.executeStep()) text += s.getColumn(3).getString() + "\n";
    return text;
  }

  // Some have the same key, and some the largest sizes that a file can have.
  std::vector<File> files = {
      {"a", 160, digest_like(1, 1)},           {"b", 160, digest_like(1, 2)},
      {"c", 160, digest_like(2, 1)},           {"d", 0, digest_like(1, 1)},
      {"e", 3 * kGigabyte, digest_like(1, 1)}, {"f", 4 * kGigabyte, digest_like(1, 1)},
      {"g", 4 * kGigabyte, digest_like(1, 2)}, {"h", std::uint64_t{1} << 62, digest_like(9, 9)}};
  std::vector<std::int64_t> sets;
  test::TempFolder folder;
  std::string path = folder / "index.sqlite";
};

TEST_F(FoundByContent, ByItsWholeDigestAndSizeWhateverKeyItShares) {
  Index index(path);
  write(index, {1, 0}, std::nullopt);
  expect_found(index);
}

TEST_F(FoundByContent, InAnIndexOfTheVersionBeforeAsWell) {
  {
    Index index(path);
    write(index, {1, 0}, std::nullopt);
  }
  make_old();
  ASSERT_FALSE(plan("SELECT 1 FROM version WHERE size = 1 AND substr(digest, 1, 8) = 2"
                    " AND digest IS NOT NULL")
                   .find("version_content") == std::string::npos);
  Index index(path);
  expect_found(index);
  File late = files[0];
  files = {{"late", 161, digest_like(3, 3)}};
  write(index, {1, 1}, SetId{1, 0});
  EXPECT_TRUE(index.find_content(161, digest_like(3, 3), sets));
  EXPECT_TRUE(index.find_content(late.size, late.digest, sets));
}

TEST_F(FoundByContent, WithoutReadingAllVersions) {
  { Index index(path); }
  for (const char* where :
       {"content = 1 AND digest = 2 AND size = 3", "content BETWEEN 1 AND 2 AND size = 3"}) {
    EXPECT_NE(plan(std::string("SELECT 1 FROM version WHERE ") + where)
                  .find("USING INDEX version_content"),
              std::string::npos)
        << where;
  }
}

}  // namespace
}  // namespace kestrum
