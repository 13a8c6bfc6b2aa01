#include "kestrum/base/ahead.h"

#include <gtest/gtest.h>

#include <atomic>
#include <stdexcept>
#include <string>

namespace kestrum {
namespace {

// Too long to lie within the string itself.
std::string long_text(int number) {
  return "a text with room of its own, number " + std::to_string(number);
}

Ahead<std::string>::Make texts_up_to(int items, int in_batch, int fails_at = -1) {
  return [=, number = 0](Ahead<std::string>::Batch& batch) mutable {
    for (int i = 0; i < in_batch; ++i) {
      if (number == fails_at) throw std::runtime_error("it fails here");
      if (number == items) return false;
      batch.add() = long_text(number++);
    }
    return true;
  };
}

TEST(Ahead, GivesAllInOrderWhateverTheSizeOfABatch) {
  for (int in_batch : {1, 2, 7, 1000}) {
    for (int items : {0, 1, 6, 7, 8, 500}) {
      Ahead<std::string> ahead(texts_up_to(items, in_batch), 3);
      std::string item;
      for (int number = 0; number < items; ++number) {
        ASSERT_TRUE(ahead.next(item));
        ASSERT_EQ(item, long_text(number));
      }
      EXPECT_FALSE(ahead.next(item));
      EXPECT_FALSE(ahead.next(item));
    }
  }
}

TEST(Ahead, TellsWhatWentWrongBehindTheBatchesBefore) {
  Ahead<std::string> ahead(texts_up_to(100, 10, 25), 2);
  std::string item;
  for (int number = 0; number < 20; ++number) {
    ASSERT_TRUE(ahead.next(item));
    EXPECT_EQ(item, long_text(number));
  }
  EXPECT_THROW(ahead.next(item), std::runtime_error);
  EXPECT_THROW(ahead.next(item), std::runtime_error);
}

TEST(Ahead, CanBeLeftAnywhere) {
  for (int taken : {0, 1, 9, 10, 11, 55}) {
    Ahead<std::string> ahead(texts_up_to(1'000'000, 10), 2);
    std::string item;
    for (int i = 0; i < taken; ++i) ASSERT_TRUE(ahead.next(item));
  }
}

struct Counted {
  static inline std::atomic<int> made = 0;
  Counted() { ++made; }
  int number = 0;
};

// However many items pass by, they are the same few.
TEST(Ahead, UsesItsItemsAgain) {
  constexpr int kItems = 10'000, kInBatch = 10, kWaiting = 3;
  Counted::made = 0;
  Ahead<Counted> ahead(
      [number = 0](Ahead<Counted>::Batch& batch) mutable {
        for (int i = 0; i < kInBatch; ++i) batch.add().number = number++;
        batch.add().number = -1;
        batch.drop_last();
        return number < kItems;
      },
      kWaiting);
  Counted item;
  int count = 0;
  for (; ahead.next(item); ++count) ASSERT_EQ(item.number, count);
  EXPECT_EQ(count, kItems);
  // Those that wait, are being made and are given out, and those that have just gone back.
  EXPECT_LE(Counted::made, (kWaiting + 3) * (kInBatch + 1) + 1);
}

}  // namespace
}  // namespace kestrum
