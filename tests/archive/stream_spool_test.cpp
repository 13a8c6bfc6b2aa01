// Pieces that are kept until they are needed.
#include "kestrum/archive/stream_spool.h"

#include <gtest/gtest.h>

#include <random>

#include "kestrum/base/error.h"
#include "support/temp_folder.h"
#include "support/tree.h"

namespace kestrum::test {
namespace {

Bytes bytes_of(const std::string& text) {
  return {text.begin(), text.end()};
}

// Whatever pieces are kept, in whichever order and however they overlap: what it says that it holds
// it gives back, and nothing else.
TEST(StreamSpool, GivesBackWhatItWasGiven) {
  TempFolder folder;
  std::string stream = noise(20'000, 3);
  for (unsigned seed = 0; seed < 20; ++seed) {
    StreamSpool spool({folder / "not there", folder.path()});
    EXPECT_TRUE(spool.empty());
    std::mt19937 random(seed);
    std::vector<bool> kept(stream.size());
    for (int i = 0; i < 12; ++i) {
      std::size_t at = random() % stream.size();
      std::size_t length = 1 + random() % std::min<std::size_t>(4'000, stream.size() - at);
      Bytes piece = bytes_of(stream.substr(at, length));
      spool.keep("sets/a", at, piece);
      std::fill_n(kept.begin() + static_cast<std::ptrdiff_t>(at), length, true);
    }
    for (std::size_t at = 0; at < stream.size(); at += 1 + random() % 50) {
      std::size_t most = 1 + random() % 3'000, expected = 0;
      while (expected < most && at + expected < stream.size() && kept[at + expected]) ++expected;
      ASSERT_EQ(spool.holds("sets/a", at, most), expected) << seed << " " << at;
      Bytes out(expected);
      spool.read("sets/a", at, out);
      ASSERT_EQ(out, bytes_of(stream.substr(at, expected)));
    }
    EXPECT_EQ(spool.holds("sets/b", 0, 100), 0U);
  }
  EXPECT_TRUE(list_folder(folder.path()).empty()) << "it has no name";
}

TEST(StreamSpool, SaysWhatItDoesNotHold) {
  TempFolder folder;
  StreamSpool spool({folder.path()});
  Bytes out(4);
  EXPECT_THROW(spool.read("sets/a", 0, out), Error);
  spool.keep("sets/a", 10, bytes_of("abcd"));
  EXPECT_THROW(spool.read("sets/a", 12, out), Error);
  StreamSpool nowhere({folder / "not there"});
  EXPECT_THROW(nowhere.keep("sets/a", 0, out), Error);
}

}  // namespace
}  // namespace kestrum::test
