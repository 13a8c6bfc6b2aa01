#include "kestrum/access/shelf_lease.h"

#include <gtest/gtest.h>

#include <atomic>
#include <thread>

#include "kestrum/base/clock.h"
#include "kestrum/base/error.h"
#include "kestrum/base/file.h"
#include "kestrum/place/local_place.h"
#include "support/temp_folder.h"

namespace kestrum::test {
namespace {

constexpr LeaseTimes kShort = {kSecond / 20, kSecond, kSecond / 10};

class Lease : public testing::Test {
 protected:
  std::shared_ptr<Place> place() { return std::make_shared<LocalPlace>(folder.path(), ""); }
  struct Notes : Observer {
    void note(const std::string&) override { ++count; }
    int count = 0;
  };
  // How long that took, in nanoseconds.
  Nanos take(ShelfLease& lease, const std::string& pc) {
    Notes notes;
    Nanos began = steady_now();
    lease.take(place(), pc, pc + "-pc", {}, notes);
    waited = notes.count > 0;
    return steady_now() - began;
  }
  bool waited = false;  // it was told that somebody is watched
  std::string file() const { return folder / kLeaseFile; }
  TempFolder folder;
};

TEST_F(Lease, IsThereWhileItIsHeldAndGivenBack) {
  {
    ShelfLease lease(kShort);
    take(lease, "first");
    EXPECT_NE(read_file(file()).find("first-pc"), std::string::npos);
    EXPECT_NO_THROW(lease.check());
  }
  EXPECT_FALSE(path_exists(file()));
  ShelfLease next(kShort);
  take(next, "second");
  EXPECT_FALSE(waited) << "nobody is waited for";
}

TEST_F(Lease, OfWhoStillWritesIsNotTaken) {
  ShelfLease first(kShort);
  take(first, "first");
  std::atomic<bool> end = false;
  std::thread writing([&] {
    while (!end) {
      first.beat();
      std::this_thread::sleep_for(std::chrono::milliseconds(5));
    }
  });
  ShelfLease second({kShort.beat, kMinute, kShort.poll});
  try {
    take(second, "second");
    ADD_FAILURE() << "both have it";
  } catch (const Error& error) {
    EXPECT_EQ(error.kind(), ErrorKind::kBusy);
    EXPECT_NE(error.message().find("first-pc"), std::string::npos) << error.message();
  }
  end = true;
  writing.join();
  EXPECT_NO_THROW(first.check());
  EXPECT_NO_THROW(second.check()) << "who has none asks for nothing";
}

// A clock that was set tells nothing: only that the file stays as it is.
TEST_F(Lease, OfWhoIsGoneIsTakenOnceItWasWatched) {
  auto gone = std::make_unique<ShelfLease>(kShort);
  take(*gone, "first");
  ShelfLease second(kShort);
  EXPECT_GE(take(second, "second"), kShort.watch);
  // It was only asleep: it says so before it seals, and leaves the other's alone.
  EXPECT_THROW(gone->check(), Error);
  gone->beat();
  gone.reset();
  EXPECT_NO_THROW(second.check());
  EXPECT_TRUE(path_exists(file()));
}

TEST_F(Lease, OfThisMachineIsOfARunThatWasCutOff) {
  auto cut = std::make_unique<ShelfLease>(kShort);
  take(*cut, "first");
  ShelfLease next(kShort);
  take(next, "first");
  EXPECT_FALSE(waited);
  EXPECT_THROW(cut->check(), Error);
}

// Whatever somebody wrote there.
TEST_F(Lease, ThatIsNoneIsWatchedLikeOne) {
  for (const std::string& text :
       {std::string(), std::string("{"), std::string(100'000, 'x'), std::string("[1]"),
        std::string(
            R"({"format":"kestrum-lease","version":1,"machine":"m","host":"a\nb","token":7})")}) {
    write_file(file(), text);
    ShelfLease lease(kShort);
    EXPECT_GE(take(lease, "second"), kShort.watch) << text.substr(0, 20);
    EXPECT_TRUE(waited);
  }
}

TEST_F(Lease, IsWaitedForNoLongerThanSomebodyWants) {
  write_file(file(), "{}");
  ShelfLease lease;
  Observer nobody;
  Nanos began = steady_now();
  try {
    lease.take(
        place(), "second", "second-pc", [] { return true; }, nobody);
    ADD_FAILURE();
  } catch (const Error& error) {
    EXPECT_EQ(error.kind(), ErrorKind::kStopped);
  }
  EXPECT_LT(steady_now() - began, 20 * kSecond);
}

}  // namespace
}  // namespace kestrum::test
