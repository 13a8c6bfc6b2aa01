// How many disks a forecast says that it takes.
#include <gtest/gtest.h>

#include <random>

#include "kestrum/inspect/forecast.h"

namespace kestrum::test {
namespace {

TEST(DisksToFill, CountsThoseBesidesTheFirst) {
  EXPECT_EQ(disks_to_fill(0, 0, 100, 10), 0U);
  EXPECT_EQ(disks_to_fill(100, 100, 100, 10), 0U) << "what needs no second disk fills the first";
  EXPECT_EQ(disks_to_fill(101, 100, 100, 10), 1U);
  EXPECT_EQ(disks_to_fill(90 + 90, 100, 100, 10), 1U);
  EXPECT_EQ(disks_to_fill(90 + 91, 100, 100, 10), 2U);
  EXPECT_EQ(disks_to_fill(50, 5, 100, 10), 1U) << "what is left of the first holds no part";
  EXPECT_EQ(disks_to_fill(UINT64_MAX, 0, 100, 10), UINT64_MAX / 90 + 1);
}

// As many as parts of that size, put one after the other onto disks, really fill.
TEST(DisksToFill, IsNeverLessThanFillingThemTakes) {
  std::mt19937 random(7);
  for (int i = 0; i < 2'000; ++i) {
    std::uint64_t part = 1 + random() % 50, size = part + 1 + random() % 500;
    std::uint64_t free = random() % (size + 1), bytes = random() % 5'000;
    std::uint64_t filled = 0, left = free, rest = bytes;
    while (rest > 0) {
      std::uint64_t next = std::min(part, rest);
      if (next > left) {
        ++filled;
        left = size;
      }
      left -= next;
      rest -= next;
    }
    EXPECT_GE(disks_to_fill(bytes, free, size, part), filled)
        << bytes << " " << free << " " << size << " " << part;
  }
}

}  // namespace
}  // namespace kestrum::test
