#include "kestrum/place/throttled_place.h"

#include <gtest/gtest.h>

#include "kestrum/base/clock.h"
#include "kestrum/place/local_place.h"
#include "support/temp_folder.h"

namespace kestrum::test {
namespace {

TEST(Throttle, NeverPassesMoreThanItsRate) {
  for (std::uint64_t rate : {2'000'000u, 20'000'000u}) {
    TempFolder folder;
    LocalPlace below(folder.path());
    ThrottledPlace place(below, rate, {});
    Bytes block(rate / 3);
    Nanos start = real_now();
    auto file = place.create("file");
    for (int i = 0; i < 5; ++i) file->write(block);
    double seconds = static_cast<double>(real_now() - start) / kSecond;
    double measured = static_cast<double>(5 * block.size()) / seconds;
    EXPECT_LT(measured, 1.1 * static_cast<double>(rate));
    EXPECT_GT(measured, 0.15 * static_cast<double>(rate)) << "not eight times less: bits for bytes";
  }
}

TEST(Throttle, LetsWhatIsUnderWayThroughWhenItIsToStop) {
  TempFolder folder;
  LocalPlace below(folder.path());
  ThrottledPlace place(below, 10'000, [] { return true; });
  Nanos start = steady_now();
  place.create("file")->write(Bytes(1'000'000));  // 100 seconds at that rate
  EXPECT_LT(steady_now() - start, 5 * kSecond);
  EXPECT_EQ(below.open("file", false)->size(), 1'000'000u);
}

}  // namespace
}  // namespace kestrum::test
