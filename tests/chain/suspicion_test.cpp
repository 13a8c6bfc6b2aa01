#include "kestrum/chain/suspicion.h"

#include <gtest/gtest.h>

#include <random>

namespace kestrum {
namespace {

struct Case {
  std::uint64_t known, changed, noise, gone;
  unsigned percent;
  bool suspect;
};

TEST(Suspicion, FallsOnAnUnusualShare) {
  for (const Case& c : {Case{100, 40, 0, 0, 40, false}, Case{100, 41, 0, 0, 40, true},
                        Case{100, 20, 0, 21, 40, true}, Case{100, 10, 10, 0, 40, false},
                        Case{100, 11, 11, 0, 40, true}, Case{19, 19, 19, 0, 40, false},
                        Case{20, 9, 0, 0, 40, true}, Case{100, 100, 100, 0, 100, false},
                        Case{100, 0, 0, 0, 0, false}, Case{100, 1, 0, 0, 0, true}}) {
    ChangeCounts counts{c.known, c.changed, c.noise, c.gone, {}};
    EXPECT_EQ(suspicion(counts, {}, {c.percent, false}).has_value(), c.suspect)
        << c.known << " " << c.changed << " " << c.noise << " " << c.gone << " " << c.percent;
  }
}

TEST(Suspicion, FallsOnAFolderThatWasEmptied) {
  ChangeCounts counts{3, 0, 0, 3, {"/home/desk/Mail"}};
  EXPECT_EQ(suspicion(counts, {}, {40, false}), "/home/desk/Mail held files and is empty now");
  EXPECT_FALSE(suspicion(counts, {}, {40, true}));
}

TEST(Suspicion, FallsOnNoiseThatCreeps) {
  ChangeCounts quiet{200, 8, 8, 0, {}};
  SetId c10{1, 0}, c14{1, 4};
  EXPECT_FALSE(suspicion(quiet, {{c10, 39, 200}}, {}));
  EXPECT_EQ(suspicion(quiet, {{c14, 8, 168}, {c10, 40, 200}}, {}),
            "40 of the 200 files of c1-0 look like noise by now, as encrypted files do");
  EXPECT_FALSE(suspicion({4, 4, 4, 0, {}}, {{c10, 4, 4}}, {})) << "too few to be sure of";
  EXPECT_TRUE(suspicion({20, 5, 5, 0, {}}, {{c10, 5, 20}}, {}));
  EXPECT_FALSE(suspicion(quiet, {{c10, 40, 200}}, {100, false}));
}

Bytes random_bytes(std::size_t size, unsigned seed) {
  std::mt19937 random(seed);
  Bytes bytes(size);
  for (auto& byte : bytes) byte = static_cast<std::uint8_t>(random());
  return bytes;
}

TEST(Noise, IsToldFromTextAndFromCompressedFormats) {
  int noise = 0;
  for (unsigned seed = 0; seed < 1000; ++seed)
    noise += looks_like_noise(random_bytes(kNoiseHead, seed));
  EXPECT_GE(noise, 999);
  EXPECT_TRUE(looks_like_noise(random_bytes(kLeastHead, 1)));
  EXPECT_FALSE(looks_like_noise(random_bytes(kLeastHead - 1, 1))) << "too little to tell";
  std::string text;
  while (text.size() < kNoiseHead)
    text += "the rota of next week, with the names of all presenters\n";
  EXPECT_FALSE(looks_like_noise(as_bytes(text)));
  for (std::string_view head :
       {"PK\x03\x04", "\xff\xd8\xff\xe0", "\x89PNG\r\n", "age-encryption.org/v1"}) {
    Bytes bytes = random_bytes(kNoiseHead, 2);
    std::copy(head.begin(), head.end(), bytes.begin());
    EXPECT_FALSE(looks_like_noise(bytes)) << head;
  }
}

}  // namespace
}  // namespace kestrum
