// The payload of an age v1 file: a 16-byte nonce, then chunks of 64 KiB, each sealed with
// ChaCha20-Poly1305 under HKDF-SHA-256(file key, salt = nonce, info = "payload").
//
//   chunk nonce = 11-byte big-endian counter || 1 for the last chunk, else 0
//   chunk i starts at payload + 16 + i * 65552, so any range can be read alone
#pragma once

#include <memory>
#include <span>
#include <string>

#include "kestrum/base/bytes.h"
#include "kestrum/crypto/age_header.h"

namespace kestrum {

inline constexpr std::size_t kAgeChunk = 64 << 10;
inline constexpr std::size_t kAgeTag = 16;
inline constexpr std::size_t kAgeSealedChunk = kAgeChunk + kAgeTag;

// One direction of the chunk cipher with its key schedule kept.
class ChunkCipher {
 public:
  ChunkCipher(const Secret& file_key, ByteView nonce, bool encrypt);
  ~ChunkCipher();
  ChunkCipher(const ChunkCipher&) = delete;
  ChunkCipher& operator=(const ChunkCipher&) = delete;

  // `out` has room for `plain.size() + kAgeTag` bytes.
  void seal(std::uint64_t counter, bool last, ByteView plain, std::uint8_t* out);
  // `out` has room for `sealed.size() - kAgeTag` bytes; false if the chunk is not authentic.
  bool open(std::uint64_t counter, bool last, ByteView sealed, std::uint8_t* out);

 private:
  struct State;
  std::unique_ptr<State> state_;
};

// Encrypts what is written to it into `sink`; the file is complete after finish().
class AgeWriter : public ByteSink {
 public:
  AgeWriter(ByteSink& sink, std::span<const Recipient> recipients);
  AgeWriter(ByteSink& sink, const Secret& passphrase);
  ~AgeWriter() override;

  void write(ByteView bytes) override;
  void finish();

  // For reading back what was just written, while the run's own key is at hand.
  const Secret& file_key() const { return file_key_; }
  // Bytes written to the sink when finish() is called after `plain_bytes` in all.
  std::uint64_t sealed_size(std::uint64_t plain_bytes) const;

 private:
  void start(const std::string& header);
  void put_chunk(ByteView plain, bool last);

  ByteSink& sink_;
  Secret file_key_;
  std::unique_ptr<ChunkCipher> cipher_;
  Bytes pending_, sealed_;
  std::uint64_t counter_ = 0, header_size_ = 0;
};

// Reads any range of an encrypted file. The end of the file is authenticated when it is opened.
class AgeReader : public ByteSource {
 public:
  // Throws Error(kDamage) naming `what` for a malformed or truncated file, Error(kPassphrase) if no
  // identity opens it. `source` outlives the reader.
  AgeReader(ByteSource& source, std::span<const Identity> identities, std::string what);
  AgeReader(ByteSource& source, const Secret& file_key, std::string what);
  ~AgeReader() override;

  std::uint64_t size() const override { return plain_size_; }
  void read_at(std::uint64_t offset, std::span<std::uint8_t> out) override;

 private:
  void open(std::uint64_t header_size, const Secret& file_key);
  // Decrypts chunks [first, first + count) to `plain_`.
  void load(std::uint64_t first, std::uint64_t count);

  ByteSource& source_;
  std::string what_;
  std::unique_ptr<ChunkCipher> cipher_;
  std::uint64_t payload_ = 0, sealed_total_ = 0, chunks_ = 0, plain_size_ = 0;
  std::uint64_t loaded_first_ = 0, loaded_count_ = 0;
  Bytes sealed_, plain_;
};

// Small documents in one piece.
Bytes age_encrypt(ByteView plain, std::span<const Recipient> recipients);
std::string age_encrypt_armoured(ByteView plain, const Secret& passphrase);
std::string age_encrypt_armoured(ByteView plain, std::span<const Recipient> recipients);
// Armoured or not. Throws Error(kPassphrase) if the key does not open it, Error(kDamage) if it is
// malformed; both name `what`.
Secret age_decrypt(ByteView file, const Secret& passphrase, const std::string& what);
Secret age_decrypt(ByteView file, std::span<const Identity> identities, const std::string& what);

// The strict PEM form of an age file: 64 columns, standard Base64 with padding.
std::string age_armour(ByteView file);
// The binary file; throws Error(kDamage) naming `what`. Input without armour is returned as it is.
Bytes age_dearmour(ByteView file, const std::string& what);

}  // namespace kestrum
