// Interoperation with Debian's age, both ways, and everything that must be refused.
#include <gtest/gtest.h>

#include "kestrum/base/base64.h"
#include "kestrum/base/error.h"
#include "kestrum/base/file.h"
#include "kestrum/crypto/age_stream.h"
#include "kestrum/crypto/bech32.h"
#include "support/program.h"

namespace kestrum {
namespace {

using test::noise;
using test::run_script;
using test::TempFolder;

const std::vector<std::size_t> kSizes = {
    0, 1, 1000, 65535, 65536, 65536 + 1, 2 * 65536 - 1, 2 * 65536, 131073, 5'000'000};

std::string text_of(const Secret& secret) {
  return std::string(secret.text());
}

class Age : public testing::Test {
 protected:
  void SetUp() override { crypto_start(); }
  TempFolder folder;
  Identity identity = Identity::generate();
  std::vector<Identity> identities() const { return {identity}; }
  std::vector<Recipient> recipients() const { return {identity.recipient()}; }
  Bytes encrypted(const std::string& plain) { return age_encrypt(as_bytes(plain), recipients()); }
  // The kind of error that decrypting ends with; 0 if it does not.
  int refusal(ByteView file) {
    try {
      age_decrypt(file, identities(), "file");
      return 0;
    } catch (const Error& error) {
      return error.exit_code();
    }
  }
  Bytes with(const std::string& plain, const std::string& from, const std::string& to) {
    Bytes file = encrypted(plain);
    std::string text(as_text(file));
    text.replace(text.find(from), from.size(), to);
    return Bytes(text.begin(), text.end());
  }
};

TEST_F(Age, ReadsWhatTheStandardToolEncryptsForARecipient) {
  for (std::size_t size : kSizes) {
    for (const std::string armour : {"", "-a"}) {
      std::string plain = noise(size, 1);
      write_file(folder / "plain", plain);
      auto ran = run_script("age " + armour + " -r " + identity.recipient().to_string() + " -o " +
                            (folder / "sealed") + " " + (folder / "plain"));
      ASSERT_EQ(ran.exit, 0) << ran.err;
      std::string sealed = read_file(folder / "sealed");
      EXPECT_EQ(text_of(age_decrypt(as_bytes(sealed), identities(), "sealed")), plain)
          << size << armour;
    }
  }
}

TEST_F(Age, WritesWhatTheStandardToolDecrypts) {
  write_file(folder / "key", identity.to_text().text());
  for (std::size_t size : kSizes) {
    std::string plain = noise(size, 2);
    write_file(folder / "sealed", as_text(encrypted(plain)));
    write_file(folder / "armoured", age_encrypt_armoured(as_bytes(plain), recipients()));
    for (const std::string name : {"sealed", "armoured"}) {
      auto ran = test::run_program({"age", "-d", "-i", folder / "key", folder / name});
      EXPECT_EQ(ran.exit, 0) << ran.err;
      EXPECT_EQ(ran.out, plain) << size << name;
    }
  }
}

TEST_F(Age, AgreesOnPassphrasesBothWays) {
  std::string plain = noise(70'000, 3);
  Secret passphrase{std::string_view("salt and sand")};
  write_file(folder / "ours", age_encrypt_armoured(as_bytes(plain), passphrase));
  auto ran = test::run_on_terminal("age -d -o " + (folder / "opened") + " " + (folder / "ours"),
                                   "salt and sand");
  ASSERT_EQ(ran.exit, 0) << ran.out;
  EXPECT_EQ(read_file(folder / "opened"), plain);
  ran = test::run_on_terminal("age -p -o " + (folder / "theirs") + " " + (folder / "opened"),
                              "salt and sand");
  ASSERT_EQ(ran.exit, 0) << ran.out;
  std::string theirs = read_file(folder / "theirs");
  EXPECT_EQ(text_of(age_decrypt(as_bytes(theirs), passphrase, "theirs")), plain);
  try {
    age_decrypt(as_bytes(theirs), Secret{std::string_view("wrong")}, "theirs");
    FAIL() << "a wrong passphrase opened it";
  } catch (const Error& error) {
    EXPECT_EQ(error.kind(), ErrorKind::kPassphrase);
  }
}

TEST_F(Age, KeysOfTheStandardToolAreReadAndWrittenAlike) {
  auto ran = run_script("age-keygen 2>/dev/null");
  auto theirs = parse_identity_file(ran.out, "key");
  ASSERT_EQ(theirs.size(), 1U);
  EXPECT_NE(ran.out.find(theirs[0].to_text().text()), std::string::npos);
  EXPECT_NE(ran.out.find(theirs[0].recipient().to_string()), std::string::npos);
}

TEST_F(Age, AnyRangeIsReadAlone) {
  std::string plain = noise(400'000, 4);
  MemorySource source(encrypted(plain));
  AgeReader reader(source, identities(), "file");
  ASSERT_EQ(reader.size(), plain.size());
  for (std::size_t offset : {0U, 1U, 65535U, 65536U, 131072U, 399'999U}) {
    for (std::size_t length : {1U, 100U, 65536U, 150'000U}) {
      if (offset + length > plain.size()) continue;
      Bytes piece(length);
      reader.read_at(offset, piece);
      EXPECT_EQ(as_text(piece), plain.substr(offset, length));
    }
  }
  Bytes beyond(2);
  EXPECT_THROW(reader.read_at(399'999, beyond), Error);
}

TEST_F(Age, AnotherKeyIsToldFromDamage) {
  Bytes file = age_encrypt(as_bytes("text"), std::vector{Identity::generate().recipient()});
  EXPECT_EQ(refusal(file), 7);
}

TEST_F(Age, AFlippedBitAnywhereIsRefused) {
  Bytes file = encrypted(noise(3000, 5));
  for (std::size_t i = 0; i < file.size(); i += i < 250 ? 1 : 97) {
    Bytes damaged = file;
    damaged[i] ^= 1;
    EXPECT_NE(refusal(damaged), 0) << "byte " << i;
  }
}

TEST_F(Age, TruncationIsRefusedEverywhere) {
  Bytes file = encrypted(noise(3 * 65536, 6));
  std::size_t header = file.size() - (3 * kAgeSealedChunk);
  for (std::size_t chunks = 0; chunks <= 3; ++chunks) {
    for (int delta : {-1, 0, 1, 16}) {
      std::size_t cut = header + chunks * kAgeSealedChunk + static_cast<std::size_t>(delta);
      if (cut >= file.size()) continue;
      EXPECT_EQ(refusal(ByteView(file).first(cut)), 4) << cut;
    }
  }
  for (std::size_t cut = 0; cut < header; ++cut)
    EXPECT_EQ(refusal(ByteView(file).first(cut)), 4) << cut;
}

TEST_F(Age, ChunksCannotBeSwappedOrRepeated) {
  Bytes file = encrypted(noise(3 * 65536, 7));
  auto chunk = file.end() - 3 * static_cast<std::ptrdiff_t>(kAgeSealedChunk);
  auto one = static_cast<std::ptrdiff_t>(kAgeSealedChunk);
  Bytes swapped = file;
  std::swap_ranges(swapped.end() - 3 * one, swapped.end() - 2 * one, swapped.end() - 2 * one);
  EXPECT_EQ(refusal(swapped), 4);
  Bytes repeated(file.begin(), chunk + one);
  repeated.insert(repeated.end(), chunk, file.end());
  EXPECT_EQ(refusal(repeated), 4);
}

TEST_F(Age, AnEmptyLastChunkBehindAFullOneIsRefused) {
  Secret key = make_file_key();
  std::string header = age_header_for(key, recipients());
  Bytes file(header.begin(), header.end());
  Bytes nonce(16, 9);
  file.insert(file.end(), nonce.begin(), nonce.end());
  ChunkCipher cipher(key, nonce, true);
  Bytes sealed(kAgeSealedChunk), plain(kAgeChunk, 'x');
  cipher.seal(0, false, plain, sealed.data());
  file.insert(file.end(), sealed.begin(), sealed.end());
  cipher.seal(1, true, {}, sealed.data());
  file.insert(file.end(), sealed.begin(), sealed.begin() + kAgeTag);
  EXPECT_EQ(refusal(file), 4);
}

TEST_F(Age, MalformedHeadersAreRefused) {
  EXPECT_EQ(refusal(with("text", "age-encryption.org/v1", "age-encryption.org/v2")), 4);
  EXPECT_EQ(refusal(with("text", "-> X25519 ", "-> X25519 extra ")), 4);
  EXPECT_EQ(refusal(with("text", "-> X25519 ", "-> X25519\n")), 4);
  EXPECT_EQ(refusal(with("text", "-> X25519 ", "-> X25519  ")), 4);
  EXPECT_EQ(refusal(with("text", "\n--- ", "\n---  ")), 4);
  EXPECT_EQ(refusal(with("text", "\n--- ", "\n---")), 4);
  EXPECT_EQ(refusal(with("text", "-> X25519 ", "->X25519 ")), 4);
  // A stanza more makes the MAC wrong, whatever the stanza is.
  EXPECT_EQ(refusal(with("text", "-> X25519 ", "-> other thing\n\n-> X25519 ")), 4);
  EXPECT_EQ(
      refusal(with("text", "-> X25519 ", "-> scrypt AAAAAAAAAAAAAAAAAAAAAA 10\n\n-> X25519 ")), 4);
}

TEST_F(Age, NonCanonicalBase64IsRefused) {
  EXPECT_TRUE(base64_decode_unpadded("AAAAAAAAAAAAAAAAAAAAAA"));
  EXPECT_FALSE(base64_decode_unpadded("AAAAAAAAAAAAAAAAAAAAAB"));  // a trailing bit is set
  EXPECT_FALSE(base64_decode_unpadded("AAAAAAAAAAAAAAAAAAAAAA=="));
  EXPECT_FALSE(base64_decode("AA"));
  EXPECT_FALSE(base64_decode("AA==\n"));
  EXPECT_FALSE(base64_decode_unpadded("AA A"));
}

TEST_F(Age, AWorkFactorThatWouldEatAllMemoryIsRefusedUnread) {
  Secret key = make_file_key();
  std::string header = age_header_for_passphrase(key, Secret{std::string_view("x")});
  header.replace(header.find(" 18\n"), 4, " 30\n");
  header.append(64, 'x');
  try {
    age_decrypt(as_bytes(header), Secret{std::string_view("x")}, "file");
    FAIL();
  } catch (const Error& error) {
    EXPECT_EQ(error.kind(), ErrorKind::kDamage);
    EXPECT_NE(error.message().find("work factor"), std::string::npos);
  }
  for (const std::string factor : {" 018\n", " +18\n", " 18 \n", " -1\n", " 0\n", " 1x\n"}) {
    std::string wrong = age_header_for(key, recipients());
    std::string scrypt = "age-encryption.org/v1\n-> scrypt AAAAAAAAAAAAAAAAAAAAAA" + factor;
    EXPECT_EQ(refusal(as_bytes(scrypt + wrong.substr(wrong.find('\n') + 1))), 4) << factor;
  }
}

TEST_F(Age, ArmourIsStrict) {
  std::string good = age_encrypt_armoured(as_bytes("text"), recipients());
  EXPECT_EQ(refusal(as_bytes(good)), 0);
  std::string text = good;
  text.insert(text.find('\n') + 70, "\n");
  EXPECT_EQ(refusal(as_bytes(text)), 4);
  EXPECT_EQ(refusal(as_bytes(good.substr(0, good.size() - 10))), 4);
}

TEST(Bech32, RefusesWhatIsNotCanonical) {
  crypto_start();
  std::string good = Identity::generate().recipient().to_string();
  EXPECT_TRUE(Recipient::parse(good));
  std::string mixed = good;
  mixed[5] = static_cast<char>(std::toupper(mixed[5]));
  EXPECT_TRUE(mixed == good || !Recipient::parse(mixed));
  std::string typo = good;
  typo[10] = typo[10] == 'q' ? 'p' : 'q';
  EXPECT_FALSE(Recipient::parse(typo));
  EXPECT_FALSE(Recipient::parse("ag1" + good.substr(4)));
  EXPECT_FALSE(Recipient::parse(""));
  // BIP 173's own vector.
  EXPECT_TRUE(bech32_decode("abcdef1qpzry9x8gf2tvdw0s3jn54khce6mua7lmqqqxw", "abcdef"));
}

}  // namespace
}  // namespace kestrum
