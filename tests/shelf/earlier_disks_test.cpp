// What label and seal say of the disks that a shelf was on.
#include <gtest/gtest.h>

#include "kestrum/access/content_disks.h"
#include "kestrum/base/error.h"
#include "kestrum/place/local_place.h"
#include "kestrum/shelf/shelf.h"
#include "support/temp_folder.h"

namespace kestrum::test {
namespace {

ShelfLabel label_on_third_disk() {
  ShelfLabel label;
  label.shelf = "0f4a1c9e-5b7d-4e21-9a64-2f1f0c7b3d55";
  label.job = "desk";
  label.host = "front-desk-pc";
  label.owner = "machine";
  label.moves = 2;
  label.earlier = {{0, "blue", 3}, {1, "green", 7}};
  return label;
}

TEST(EarlierDisks, StandInTheLabel) {
  ShelfLabel label = label_on_third_disk();
  ShelfLabel found = ShelfLabel::parse(label.to_json(), "shelf.json");
  ASSERT_EQ(found.earlier.size(), 2U);
  EXPECT_EQ(found.earlier[1].name, "green");
  EXPECT_EQ(found.earlier_disk(1)->seals, 7U);
  EXPECT_EQ(found.earlier_disk(2), nullptr);
  EXPECT_FALSE(found.waits);
  label.earlier[1].number = 2;  // its own
  EXPECT_THROW(ShelfLabel::parse(label.to_json(), "shelf.json"), Error);
  label = label_on_third_disk();
  std::swap(label.earlier[0], label.earlier[1]);
  EXPECT_THROW(ShelfLabel::parse(label.to_json(), "shelf.json"), Error);
  label.earlier.clear();
  label.waits = "0f4a1c9e-5b7d-4e21-9a64-2f1f0c7b3d56";
  EXPECT_EQ(ShelfLabel::parse(label.to_json(), "shelf.json").waits, label.waits);
  label.waits = "soon";
  EXPECT_THROW(ShelfLabel::parse(label.to_json(), "shelf.json"), Error);
}

TEST(EarlierDisks, HoldThePartsOfSetsThatWereSealedOnThem) {
  TempFolder folder;
  Shelf shelf(std::make_shared<LocalPlace>(folder.path()), label_on_third_disk(), {});
  auto disk_of = [&](std::uint64_t seal_number, std::optional<std::uint64_t> part) {
    Seal seal;
    seal.number = seal_number;
    PartInfo info;
    info.disk = part;
    const EarlierDisk* disk = shelf.lies_on(seal, info);
    return disk == nullptr ? std::string("here") : disk->name;
  };
  EXPECT_EQ(disk_of(1, std::nullopt), "blue");
  EXPECT_EQ(disk_of(3, std::nullopt), "blue");
  EXPECT_EQ(disk_of(4, std::nullopt), "green");
  EXPECT_EQ(disk_of(8, std::nullopt), "here");
  // Of a set over several disks its seal says it.
  EXPECT_EQ(disk_of(4, 0), "blue");
  EXPECT_EQ(disk_of(8, 1), "green");
  EXPECT_EQ(disk_of(8, 2), "here");
}

TEST(EarlierDisks, AreNotLookedForOnceAllOfItWasCopied) {
  TempFolder folder;
  ShelfLabel label = label_on_third_disk();
  label.moves = 4;
  label.earlier = {{3, "large", 9}};  // the disk with the number 3 had all that the others held
  Shelf shelf(std::make_shared<LocalPlace>(folder.path()), label, {});
  Seal seal;
  seal.number = 5;
  PartInfo part;
  part.disk = 0;
  EXPECT_EQ(shelf.lies_on(seal, part)->name, "large");
  seal.number = 10;
  part.disk = 4;
  EXPECT_EQ(shelf.lies_on(seal, part), nullptr);
}

}  // namespace
}  // namespace kestrum::test
