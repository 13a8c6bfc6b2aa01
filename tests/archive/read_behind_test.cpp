#include "kestrum/archive/read_behind.h"

#include <gtest/gtest.h>

#include "kestrum/place/local_place.h"
#include "support/faulty_place.h"
#include "support/temp_folder.h"

namespace kestrum {
namespace {

class ReadsBehind : public testing::Test {
 protected:
  // Writes a file of so many MiB, a mebibyte at a time, and answers what is said of it in the end.
  bool write(Place& to, unsigned mebibytes, unsigned given_up_after = 1000) {
    auto file = to.create("file");
    ReadBehind behind(to, "file");
    BlockDigester digester;
    std::string block = test::noise(1 << 20, 4);
    for (unsigned number = 1; number <= mebibytes; ++number) {
      block[0] = static_cast<char>(number);
      file->write(as_bytes(block));
      digester.update(as_bytes(block));
      behind.written(std::uint64_t{number} << 20);
      if (number == given_up_after) return false;
    }
    file->sync();
    return behind.gave_back(std::uint64_t{mebibytes} << 20, digester.finish());
  }
  test::TempFolder folder;
  LocalPlace place{folder.path()};
};

TEST_F(ReadsBehind, AFileThatTheDiskKeeps) {
  EXPECT_TRUE(write(place, 70));
  EXPECT_TRUE(write(place, 130));
}

TEST_F(ReadsBehind, NotAFileThatIsSmall) {
  EXPECT_FALSE(write(place, 10));
}

TEST_F(ReadsBehind, AndFindsWhatTheDiskChanged) {
  for (int wrong : {1, 30, 70}) {
    test::FaultyPlace faulty(place);
    int writes = 0;
    faulty.tamper = [&](Bytes& bytes) {
      if (++writes == wrong) bytes[5] ^= 1;
    };
    EXPECT_FALSE(write(faulty, 70)) << wrong;
  }
}

TEST_F(ReadsBehind, CanBeGivenUp) {
  for (unsigned after : {1U, 64U, 69U}) EXPECT_FALSE(write(place, 70, after));
}

}  // namespace
}  // namespace kestrum
