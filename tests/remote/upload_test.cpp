// An upload on a store that takes some of it and then no more, as servers do.
#include "kestrum/remote/upload.h"

#include <gtest/gtest.h>

#include <algorithm>
#include <memory>
#include <utility>

#include "kestrum/base/error.h"
#include "kestrum/remote/remote_server.h"
#include "support/empty_store.h"
#include "support/temp_folder.h"

namespace kestrum::test {
namespace {

// Keeps one file. Of every write some arrives, and is told where it tells; then the next misfortune
// comes.
class FickleStore : public EmptyStore {
 public:
  enum class Misfortune { kBreaks, kIsFull };
  struct Turn {
    std::size_t arrives;  // bytes
    std::size_t behind;   // of what follows, bytes that are there as well, behind a hole of as many
    Misfortune then;
  };
  FickleStore(bool tells, std::vector<Turn> turns) : tells_(tells), turns_(std::move(turns)) {}

  std::optional<std::uint64_t> size(const std::string&) override {
    return content.empty() ? std::nullopt : std::optional<std::uint64_t>(content.size());
  }
  bool tells_arrival() const override { return tells_; }

  void write(const std::string&, std::uint64_t offset, Content source) override {
    offsets.push_back(offset);
    content.resize(offset == 0 ? 0 : std::max<std::size_t>(content.size(), offset));
    std::optional<Turn> turn;
    if (!turns_.empty()) {
      turn = turns_.front();
      turns_.erase(turns_.begin());
    }
    std::size_t left = turn ? turn->arrives : SIZE_MAX;
    Bytes buffer(100'000);
    while (left > 0) {
      auto some = source.fill(std::span(buffer).first(std::min(buffer.size(), left)));
      if (!some || *some == 0) return;
      put(offset, ByteView(buffer).first(*some));
      offset += *some;
      left -= *some;
      if (tells_ && source.arrived) source.arrived(*some);
    }
    // Refused is one piece, and what came behind it was taken.
    for (std::size_t i = 0; i < 2 && turn->behind > 0; ++i) {
      Bytes piece(turn->behind);
      auto some = source.fill(piece);
      if (!some) return;
      if (i == 1) put(offset, ByteView(piece).first(*some));
      offset += *some;
    }
    if (turn->then == Misfortune::kIsFull) refuse("x", ErrorKind::kNoRoom, "the disk is full");
    throw BrokenConnection(Error(ErrorKind::kPlace, "it broke").may_come(), false, false);
  }

  std::string content;
  std::vector<std::uint64_t> offsets;  // that it was gone on from

 private:
  void put(std::uint64_t offset, ByteView bytes) {
    content.resize(std::max<std::size_t>(content.size(), offset + bytes.size()), '\0');
    std::copy(bytes.begin(), bytes.end(), content.begin() + static_cast<std::ptrdiff_t>(offset));
  }
  bool tells_;
  std::vector<Turn> turns_;
};

void send_all(Upload& upload, const std::string& text) {
  constexpr std::size_t kPiece = 300'000;
  for (std::size_t at = 0; at < text.size();) {
    std::string piece = text.substr(at, kPiece);
    try {
      upload.write(as_bytes(piece));
      at += piece.size();
    } catch (const Error& error) {
      ASSERT_EQ(error.kind(), ErrorKind::kNoRoom) << error.message();  // made again
    }
  }
  for (int tries = 0; tries < 5; ++tries) {
    try {
      return upload.sync();
    } catch (const Error& error) {
      ASSERT_EQ(error.kind(), ErrorKind::kNoRoom) << error.message();
    }
  }
}

TEST(Uploads, GoOnBehindWhatArrivedAndNotWhereTheFileEnds) {
  using enum FickleStore::Misfortune;
  std::string text = noise(9'000'000, 3);
  for (auto misfortune : {kBreaks, kIsFull}) {
    auto store = std::make_shared<FickleStore>(
        true,
        std::vector<FickleStore::Turn>{
            {2'000'000, 100'000, misfortune}, {0, 50'000, misfortune}, {3'000'000, 0, misfortune}});
    Upload upload(store, "/x", "x");
    send_all(upload, text);
    EXPECT_TRUE(store->content == text) << "a hole stayed";
    EXPECT_EQ(store->offsets, (std::vector<std::uint64_t>{0, 2'000'000, 2'000'000, 5'000'000}));
  }
}

TEST(Uploads, GoOnWhereTheFileEndsWhereNobodyTellsWhatArrived) {
  using enum FickleStore::Misfortune;
  std::string text = noise(9'000'000, 4);
  auto store = std::make_shared<FickleStore>(
      false, std::vector<FickleStore::Turn>{{2'000'000, 0, kBreaks}, {1'500'000, 0, kIsFull}});
  Upload upload(store, "/x", "x");
  send_all(upload, text);
  EXPECT_TRUE(store->content == text);
  EXPECT_EQ(store->offsets, (std::vector<std::uint64_t>{0, 2'000'000, 3'500'000}));
}

TEST(Uploads, AreSentBeforeAnybodyWaitsForThemOnceTheyEnd) {
  auto store = std::make_shared<FickleStore>(true, std::vector<FickleStore::Turn>{});
  Upload upload(store, "/x", "x");
  upload.write(as_bytes("a letter"));
  upload.end();
  upload.sync();
  upload.sync();
  EXPECT_EQ(store->content, "a letter");
  EXPECT_EQ(store->offsets.size(), 1U);
}

}  // namespace
}  // namespace kestrum::test
