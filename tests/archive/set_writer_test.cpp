#include "kestrum/archive/set_writer.h"

#include <gtest/gtest.h>

#include <atomic>
#include <chrono>
#include <filesystem>
#include <thread>

#include "kestrum/archive/set_reader.h"
#include "kestrum/base/error.h"
#include "kestrum/base/file.h"
#include "kestrum/place/local_place.h"
#include "support/faulty_place.h"
#include "support/program.h"
#include "support/stored_digest.h"

namespace kestrum {
namespace {

using test::noise;

class SetFiles : public testing::Test {
 protected:
  void SetUp() override {
    crypto_start();
    identities.push_back(Identity::generate());
    packing.recipient = identities[0].recipient();
  }
  std::vector<PartInfo> write(Place& to, const std::string& content, std::uint64_t part_size,
                              ReadBack read_back = ReadBack::kContents) {
    to.make_folder("set");
    SetWriter writer(to, "set", {packing, part_size, read_back, 2});
    for (std::size_t at = 0; at < content.size(); at += 100'003) {
      writer.append(as_bytes(std::string_view(content).substr(at, 100'003)));
    }
    return writer.finish();
  }
  test::TempFolder folder;
  LocalPlace place{folder.path()};
  Packing packing;
  std::vector<Identity> identities;
};

TEST_F(SetFiles, PartsKeepToTheirSizeAndGiveBackTheStreamAtAnyOffset) {
  std::string content = noise(3'000'000, 1) + std::string(5'000'000, 'z') + noise(700'000, 2);
  for (CompressionLevel level : {CompressionLevel::kNormal, CompressionLevel::kOff}) {
    for (std::uint64_t part_size :
         {std::uint64_t{100'000}, std::uint64_t{1'000'000}, std::uint64_t{1'000'000'000}}) {
      packing.level = level;
      auto parts = write(place, content, part_size);
      std::uint64_t files = 0;
      for (const PartInfo& part : parts) {
        std::string bytes = read_file(folder / "set/" + part.name);
        EXPECT_LE(bytes.size(), part_size);
        EXPECT_EQ(bytes.size(), part.bytes);
        EXPECT_EQ(test::stored_digest(bytes), part.digest);
        ++files;
      }
      EXPECT_TRUE(files == 1U || part_size < 1'000'000'000);
      SetReader reader(place, {"set", parts, true, packing.compressed()}, identities);
      std::string whole = content + std::string(1024, '\0');
      for (std::size_t at : {0U, 1U, 2'999'990U, 7'999'999U, 8'699'000U}) {
        Bytes piece(1500);
        reader.read_at(at, piece);
        EXPECT_EQ(as_text(piece), whole.substr(at, piece.size())) << at;
      }
      Bytes all(whole.size());
      reader.read_at(0, all);
      EXPECT_EQ(as_text(all), whole);
      Bytes beyond(1);
      EXPECT_THROW(reader.read_at(whole.size(), beyond), Error);
      place.remove_folder("set");
    }
  }
}

TEST_F(SetFiles, TheStandardToolsOpenThem) {
  std::string content = "text\n" + noise(200'000, 3);
  write(place, content, 100'000'000);
  write_file(folder / "key", identities[0].to_text().text());
  auto ran = test::run_script("age -d -i " + (folder / "key") + " " + folder.path() +
                              "/set/part-000001.tar.zst.age | zstd -dc");
  EXPECT_EQ(ran.out, content + std::string(1024, '\0')) << ran.err;
}

TEST_F(SetFiles, AnEmptySetHasAPart) {
  auto parts = write(place, "", 1'000'000);
  EXPECT_EQ(parts.size(), 1U);
}

TEST_F(SetFiles, ContentThatDoesNotShrinkCostsNextToNothing) {
  auto parts = write(place, noise(4'000'000, 4), 1'000'000'000);
  EXPECT_LT(parts[0].bytes, 4'000'000U * 1002 / 1000);
}

TEST_F(SetFiles, AFullDiskEndsTheWritingAtOnce) {
  test::FaultyPlace faulty(place);
  faulty.room_left = 500'000;
  try {
    write(faulty, noise(50'000'000, 5), 1'000'000);
    FAIL() << "it was written";
  } catch (const Error& error) {
    EXPECT_EQ(error.kind(), ErrorKind::kNoRoom);
  }
}

TEST_F(SetFiles, ADiskThatDoesNotKeepWhatIsWrittenIsFoundOut) {
  test::FaultyPlace faulty(place);
  int writes = 0;
  faulty.tamper = [&](Bytes& bytes) {
    if (++writes == 5 && !bytes.empty()) bytes[0] ^= 1;
  };
  try {
    write(faulty, noise(2'000'000, 6), 1'000'000, ReadBack::kParts);
    FAIL() << "a wrong part was taken for good";
  } catch (const Error& error) {
    EXPECT_EQ(error.kind(), ErrorKind::kDamage);
    EXPECT_NE(error.message().find("does not give back"), std::string::npos);
  }
}

// A part that is large enough to be read back while it is written: what the disk changed early in
// it, or in the end of it, is found out all the same.
TEST_F(SetFiles, ADiskThatDoesNotKeepALargePartIsFoundOut) {
  constexpr std::size_t kSize = 90'000'000;
  packing.level = CompressionLevel::kOff;
  std::string content = noise(kSize, 9);
  for (int wrong : {-1, 3, 1'300}) {
    test::FaultyPlace faulty(place);
    int writes = 0;
    faulty.tamper = [&](Bytes& bytes) {
      if (++writes == wrong && !bytes.empty()) bytes[0] ^= 1;
    };
    try {
      auto parts = write(faulty, content, 1'000'000'000, ReadBack::kParts);
      EXPECT_EQ(wrong, -1) << "a wrong part was taken for good after " << writes;
      EXPECT_EQ(stored_digest_of(*place.open("set/" + parts[0].name, false)), parts[0].digest);
    } catch (const Error& error) {
      EXPECT_NE(wrong, -1) << error.message();
      EXPECT_EQ(error.kind(), ErrorKind::kDamage);
    }
    EXPECT_GT(writes, 1'300);
    std::filesystem::remove_all(folder / "set");
  }
}

TEST(SeekTables, OutsideTheirBoundsAreRefused) {
  SeekTable table;
  table.add(100, 1000);
  table.add(50, 500);
  std::string good = std::string(150, 'f') + table.encode();
  MemorySource source{std::string_view(good)};
  SeekTable read = SeekTable::read(source, "part");
  EXPECT_EQ(read.frames(), 2U);
  EXPECT_EQ(read.frame_at(999), 0U);
  EXPECT_EQ(read.frame_at(1000), 1U);
  EXPECT_EQ(read.content_size(), 1500U);
  for (std::size_t i = 150; i < good.size(); ++i) {
    std::string damaged = good;
    damaged[i] = static_cast<char>(damaged[i] ^ 0x55);
    MemorySource wrong{std::string_view(damaged)};
    try {
      SeekTable taken = SeekTable::read(wrong, "part");
      EXPECT_LE(taken.content_size(), 2 * kFrameLimit);
    } catch (const Error& error) {
      EXPECT_EQ(error.kind(), ErrorKind::kDamage);
    }
  }
  for (std::size_t cut = 0; cut < good.size(); ++cut) {
    MemorySource shorter{std::string_view(good).substr(0, cut)};
    EXPECT_THROW(SeekTable::read(shorter, "part"), Error);
  }
}

// Reads back slowly; whoever waits for it asks to stop.
class SlowToRead : public ForwardingPlace {
 public:
  using ForwardingPlace::ForwardingPlace;
  std::unique_ptr<ByteSource> open(const std::string& path, bool from_disk) override {
    std::this_thread::sleep_for(std::chrono::milliseconds(400));
    reading = true;
    std::this_thread::sleep_for(std::chrono::milliseconds(200));
    return below_.open(path, from_disk);
  }
  std::atomic<bool> reading = false;
};

TEST_F(SetFiles, AStopWhileAPartIsReadBackKeepsThatPartOnce) {
  SlowToRead slow(place);
  slow.make_folder("set");
  std::vector<ClosedPart> kept;
  SetWriterOptions options{packing, 100'000, ReadBack::kParts, 2};
  options.stop = [&] { return slow.reading.load(); };
  options.keep = [&](const std::vector<ClosedPart>& parts) {
    kept.insert(kept.end(), parts.begin(), parts.end());
  };
  SetWriter writer(slow, "set", options);
  std::string content = noise(2'000'000, 1);
  EXPECT_THROW(
      {
        writer.append(as_bytes(content));
        writer.finish();
      },
      Error);
  EXPECT_EQ(kept.size(), 1U) << "told while it was read back";
  writer.give_up(true);
  ASSERT_EQ(kept.size(), 1U);
  EXPECT_EQ(test::stored_digest(read_file(folder / "set/" + kept[0].info.name)),
            kept[0].info.digest);
}

}  // namespace
}  // namespace kestrum
