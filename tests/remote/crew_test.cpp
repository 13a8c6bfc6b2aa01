// Several exchanges at a time, with a server that takes its time and counts its connections.
#include "kestrum/remote/crew.h"

#include <gtest/gtest.h>

#include <atomic>
#include <chrono>
#include <memory>
#include <string>
#include <thread>
#include <vector>

#include "kestrum/base/error.h"
#include "support/empty_store.h"

namespace kestrum::test {
namespace {

constexpr Nanos kMilli = kSecond / 1000;

// One connection lies idle at first; each that is made takes `to_connect`.
class CountingStore : public EmptyStore {
 public:
  explicit CountingStore(Nanos known_pace) : pace_(known_pace) {}

  Nanos pace() override { return pace_; }
  bool is_far() override { return pace_ > 10 * kMilli; }
  std::size_t idle_connections() override { return idle; }
  void connect_another() override {
    ++made;
    std::this_thread::sleep_for(std::chrono::nanoseconds(to_connect));
    ++idle;
  }

  std::atomic<std::size_t> idle = 1, made = 0;
  Nanos to_connect = 0;

 private:
  Nanos pace_;
};

std::vector<Crew::Task> counting(std::vector<std::atomic<int>>& done) {
  std::vector<Crew::Task> tasks;
  for (std::atomic<int>& count : done) tasks.emplace_back([&count] { ++count; });
  return tasks;
}

TEST(ACrew, DoesEachOnceHoweverMany) {
  for (Nanos pace : {Nanos{0}, kMilli, 100 * kMilli}) {
    for (std::size_t count : {0, 1, 2, 5, 40}) {
      auto store = std::make_shared<CountingStore>(pace);
      Crew crew(store);
      std::vector<std::atomic<int>> done(count);
      crew.do_all(counting(done));
      for (std::atomic<int>& one : done) EXPECT_EQ(one, 1) << count << " at " << pace;
      EXPECT_LE(store->made, 5U);
    }
  }
}

TEST(ACrew, ConnectsWhereTheWayIsLongOnly) {
  auto near = std::make_shared<CountingStore>(kMilli),
       far = std::make_shared<CountingStore>(100 * kMilli);
  for (auto& store : {near, far}) {
    Crew crew(store);
    std::vector<std::atomic<int>> done(5);
    crew.do_all(counting(done));
    crew.connect_ahead();
  }
  EXPECT_EQ(near->made, 0U);
  EXPECT_EQ(far->made, 3U);
}

TEST(ACrew, WaitsForNoConnectionThatComesTooLate) {
  auto store = std::make_shared<CountingStore>(100 * kMilli);
  store->to_connect = 3 * kSecond;
  auto began = std::chrono::steady_clock::now();
  auto crew = std::make_unique<Crew>(store);
  std::vector<std::atomic<int>> done(5);
  crew->do_all(counting(done));
  EXPECT_LT(std::chrono::steady_clock::now() - began, std::chrono::seconds(3));
  EXPECT_EQ(store->idle, 1U);
  crew.reset();
  EXPECT_EQ(store->idle, store->made + 1);
}

TEST(ACrew, TellsWhatFailedOnceAllAreDone) {
  auto store = std::make_shared<CountingStore>(100 * kMilli);
  store->idle = 4;
  Crew crew(store);
  std::vector<std::atomic<int>> done(8);
  std::vector<Crew::Task> tasks = counting(done);
  tasks.insert(tasks.begin(), [] { throw Error(ErrorKind::kFailed, "refused"); });
  EXPECT_THROW(crew.do_all(std::move(tasks)), Error);
  for (std::atomic<int>& one : done) EXPECT_EQ(one, 1);
}

}  // namespace
}  // namespace kestrum::test
