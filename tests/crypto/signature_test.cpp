#include "kestrum/crypto/signature.h"

#include <gtest/gtest.h>

#include "kestrum/base/error.h"
#include "kestrum/base/file.h"
#include "kestrum/crypto/digest.h"
#include "support/program.h"

namespace kestrum {
namespace {

class Signature : public testing::Test {
 protected:
  void SetUp() override {
    crypto_start();
    key = SigningKey::generate();
  }
  SigningKey key = (crypto_start(), SigningKey::generate());
  bool valid(const std::string& message, const std::string& signature) const {
    return signature_valid(as_bytes(message), signature, std::vector{key.verify_key()});
  }
};

TEST_F(Signature, IsAcceptedByTheStandardTool) {
  test::TempFolder folder;
  write_file(folder / "seal.json", "{}\n");
  write_file(folder / "seal.json.minisig", key.sign(as_bytes("{}\n"), "seal of set c1-0"));
  auto ran = test::run_program(
      {"minisign", "-Vm", folder / "seal.json", "-P", key.verify_key().to_string()});
  EXPECT_EQ(ran.exit, 0) << ran.err;
  EXPECT_NE(ran.out.find("Trusted comment: seal of set c1-0"), std::string::npos) << ran.out;
}

TEST_F(Signature, HoldsForItsMessageAndKeyOnly) {
  std::string signature = key.sign(as_bytes("message"), "comment");
  EXPECT_TRUE(valid("message", signature));
  EXPECT_FALSE(valid("Message", signature));
  std::vector<VerifyKey> other = {SigningKey::generate().verify_key()};
  EXPECT_FALSE(signature_valid(as_bytes("message"), signature, other));
  EXPECT_FALSE(signature_valid(as_bytes("message"), signature, {}));
}

TEST_F(Signature, AFlippedByteAnywhereThatCountsIsNoticed) {
  std::string signature = key.sign(as_bytes("message"), "comment");
  std::size_t counts_from = signature.find('\n') + 1;  // the first line is not trusted
  for (std::size_t i = counts_from; i < signature.size(); ++i) {
    std::string damaged = signature;
    damaged[i] ^= 1;
    EXPECT_FALSE(valid("message", damaged)) << i;
  }
}

TEST_F(Signature, KeySurvivesSaving) {
  SigningKey again = SigningKey::load(key.save().text());
  EXPECT_EQ(again.verify_key(), key.verify_key());
  EXPECT_TRUE(valid("x", again.sign(as_bytes("x"), "c")));
  EXPECT_THROW(SigningKey::load("nonsense"), Error);
  EXPECT_EQ(VerifyKey::parse(key.verify_key().to_string()), key.verify_key());
  EXPECT_FALSE(VerifyKey::parse("RWQ"));
}

TEST(Digests, AreWhatB3sumPrints) {
  test::TempFolder folder;
  for (std::size_t size : {0U, 1U, 1024U, 1025U, 300'000U}) {
    std::string content = test::noise(size, 1);
    write_file(folder / "file", content);
    auto ran = test::run_program({"b3sum", "--no-names", folder / "file"});
    EXPECT_EQ(to_hex(digest_of(as_bytes(content))) + "\n", ran.out);
  }
  Digester digester;
  digester.update_zeros(200'000);
  EXPECT_EQ(digester.finish(), digest_of(Bytes(200'000)));
  EXPECT_FALSE(parse_digest(std::string(64, 'G')));
}

}  // namespace
}  // namespace kestrum
