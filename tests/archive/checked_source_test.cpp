// A file that is exchanged after its digest was found right, as by whoever holds the disk or share.
#include <gtest/gtest.h>

#include <algorithm>
#include <memory>

#include "kestrum/archive/block_digests.h"
#include "kestrum/base/error.h"
#include "support/temp_folder.h"

namespace kestrum::test {
namespace {

class Exchanged : public ByteSource {
 public:
  explicit Exchanged(std::string content) : content_(std::move(content)) {}
  std::uint64_t size() const override { return content_.size(); }
  void read_at(std::uint64_t offset, std::span<std::uint8_t> out) override {
    std::copy_n(content_.begin() + static_cast<std::ptrdiff_t>(offset), out.size(), out.begin());
  }
  std::string content_;
};

class CheckedSources : public testing::Test {
 protected:
  void SetUp() override {
    auto file = std::make_unique<Exchanged>(content_);
    file_ = file.get();
    std::string digests = block_digests_of(*file);
    source_ = std::make_unique<CheckedSource>(std::move(file), std::move(digests), "ledger");
  }
  std::string read(std::uint64_t offset, std::size_t length) {
    Bytes out(length);
    source_->read_at(offset, out);
    return std::string(as_text(out));
  }
  std::string content_ = noise(3 * kDigestBlock + 1000, 7);
  Exchanged* file_ = nullptr;
  std::unique_ptr<CheckedSource> source_;
};

TEST_F(CheckedSources, GiveOutWhatTheFileHolds) {
  for (std::uint64_t offset :
       {std::uint64_t{0}, kDigestBlock - 1, kDigestBlock, 3 * kDigestBlock}) {
    for (std::size_t length : {std::size_t{0}, std::size_t{1}, std::size_t{1000}}) {
      EXPECT_EQ(read(offset, length), content_.substr(offset, length));
    }
  }
  EXPECT_EQ(read(0, content_.size()), content_);
}

TEST_F(CheckedSources, NeverGiveOutWhatWasNotDigested) {
  EXPECT_EQ(read(0, 100), content_.substr(0, 100));
  file_->content_[2 * kDigestBlock + 5] ^= 1;
  EXPECT_EQ(read(kDigestBlock, 100), content_.substr(kDigestBlock, 100));
  EXPECT_THROW(read(2 * kDigestBlock - 10, 20), Error);
  EXPECT_THROW(read(2 * kDigestBlock, 1), Error);
  EXPECT_EQ(read(3 * kDigestBlock, 1000), content_.substr(3 * kDigestBlock));
}

TEST_F(CheckedSources, FindAFileThatGrewOrShrank) {
  EXPECT_THROW(read(content_.size(), 1), Error);
  file_->content_ += "more";
  EXPECT_THROW(read(content_.size(), 4), Error);
  file_->content_ = content_.substr(0, kDigestBlock);
  EXPECT_THROW(read(kDigestBlock, 1), Error);
}

}  // namespace
}  // namespace kestrum::test
