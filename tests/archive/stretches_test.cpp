#include "kestrum/archive/stretches.h"

#include <gtest/gtest.h>

#include <random>
#include <set>

namespace kestrum {
namespace {

Bytes stretched_noise(std::size_t count, unsigned seed) {
  std::mt19937_64 random(seed);
  Bytes bytes(count);
  for (auto& byte : bytes) byte = static_cast<std::uint8_t>(random());
  return bytes;
}

// By the words of docs/format.md alone, every byte hashed anew over the 64 before it.
std::vector<std::size_t> by_the_book(const Bytes& content) {
  std::vector<std::uint64_t> values;
  for (int byte = 0; byte < 256; ++byte) {
    std::string text = std::string("kestrum stretch ") + static_cast<char>(byte);
    values.push_back(get_le64(digest_of(as_bytes(text)).data()));
  }
  std::vector<std::size_t> lengths;
  std::size_t begin = 0;
  for (std::size_t end = 1; end <= content.size(); ++end) {
    std::size_t length = end - begin;
    bool ends = length == 131'072 || end == content.size();
    if (length >= 32'768 && !ends) {
      std::uint64_t hash = 0;
      for (std::size_t i = end - 64; i < end; ++i) hash = 2 * hash + values[content[i]];
      ends = hash >> (length >= 57'344 ? 64 - 13 : 64 - 18) == 0;
    }
    if (!ends) continue;
    lengths.push_back(length);
    begin = end;
  }
  return lengths;
}

std::vector<Stretch> at_once(ByteView content) {
  std::vector<Stretch> list;
  while (!content.empty()) {
    std::size_t length = first_stretch(content);
    list.push_back({static_cast<std::uint32_t>(length), stretch_digest(content.first(length))});
    content = content.subspan(length);
  }
  return list;
}

TEST(Stretches, EndWhereTheFormatSaysTheyDo) {
  Bytes content = stretched_noise(1'500'000, 1);
  std::fill(content.begin() + 400'000, content.begin() + 800'000, 0);  // nothing to end at
  std::vector<std::size_t> expected = by_the_book(content), found;
  for (const Stretch& stretch : at_once(content)) found.push_back(stretch.length);
  EXPECT_EQ(found, expected);
  EXPECT_GT(std::set<std::size_t>(found.begin(), found.end()).size(), 10U);
}

TEST(Stretches, AreTheSameHoweverTheContentComes) {
  Bytes content = stretched_noise(2'000'000, 2);
  std::mt19937 random(3);
  for (std::size_t most : {1'000U, 40'000U, 1'048'576U}) {
    std::vector<Stretch> found;
    StretchLister lister([&](const Stretch& stretch) { found.push_back(stretch); });
    for (ByteView left = content; !left.empty();) {
      std::size_t n = std::min<std::size_t>(left.size(), 1 + random() % most);
      lister.add(left.first(n));
      left = left.subspan(n);
    }
    lister.end_run();
    lister.end_run();
    EXPECT_EQ(found, at_once(content)) << most;
  }
}

TEST(Stretches, OfWhatWasNotEditedStayWhatTheyWere) {
  Bytes content = stretched_noise(4'000'000, 4), edited = content;
  Bytes more = stretched_noise(100, 5);
  edited.insert(edited.begin() + 1'000'000, more.begin(), more.end());
  edited.erase(edited.begin() + 3'000'000, edited.begin() + 3'000'300);
  std::set<StretchDigest> known;
  std::size_t bytes = 0, fresh = 0;
  for (const Stretch& stretch : at_once(content)) known.insert(stretch.digest);
  for (const Stretch& stretch : at_once(edited)) {
    bytes += stretch.length;
    if (!known.contains(stretch.digest)) fresh += stretch.length;
  }
  EXPECT_EQ(bytes, edited.size());
  EXPECT_LT(fresh, 400'000U);
  EXPECT_EQ(first_stretch(ByteView(content).first(20)), 20U);
  EXPECT_EQ(first_stretch({}), 0U);
}

// The mean that the format was chosen by.
TEST(Stretches, AreOfTheLengthThatIsToldOfThem) {
  Bytes content = stretched_noise(20'000'000, 6);
  double mean = 20e6 / static_cast<double>(at_once(content).size());
  EXPECT_GT(mean, 58'000);
  EXPECT_LT(mean, 68'000);
}

}  // namespace
}  // namespace kestrum
