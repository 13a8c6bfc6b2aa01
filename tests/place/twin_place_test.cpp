#include "kestrum/place/twin_place.h"

#include <gtest/gtest.h>

#include <string_view>

#include "kestrum/base/error.h"
#include "kestrum/base/file.h"
#include "kestrum/place/local_place.h"
#include "support/faulty_place.h"
#include "support/temp_folder.h"

namespace kestrum {
namespace {

TEST(TwinPlace, WritesTheSameTwice) {
  test::TempFolder folder;
  LocalPlace place(folder.path());
  {
    TwinPlace both(place, "copy");
    auto file = both.create("file");
    for (int i = 0; i < 3; ++i) file->write(as_bytes("piece " + std::to_string(i)));
    file->end();
    file->sync();
  }
  EXPECT_EQ(read_file(folder / "file"), "piece 0piece 1piece 2");
  EXPECT_EQ(read_file(folder / "copy"), read_file(folder / "file"));
}

TEST(TwinPlace, SaysWhenEitherIsFull) {
  constexpr std::string_view kShort = "short", kLong = "longer than that";
  test::TempFolder folder;
  LocalPlace place(folder.path());
  for (std::size_t fits : {2 * kShort.size(), 2 * kShort.size() + kLong.size()}) {
    test::FaultyPlace faulty(place);
    faulty.room_left = fits;
    TwinPlace both(faulty, "copy");
    auto file = both.create("file");
    file->write(as_bytes(kShort));
    EXPECT_THROW(file->write(as_bytes(kLong)), Error) << fits;
  }
}

}  // namespace
}  // namespace kestrum
