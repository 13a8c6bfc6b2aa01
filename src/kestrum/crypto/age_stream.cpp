#include "kestrum/crypto/age_stream.h"

#include <openssl/evp.h>
#include <sodium.h>

#include <algorithm>
#include <array>

#include "kestrum/base/base64.h"
#include "kestrum/base/error.h"
#include "kestrum/base/text.h"

namespace kestrum {
namespace {

constexpr std::size_t kNonceSize = 16;
constexpr std::uint64_t kSmallDocument = 64 << 20;
constexpr std::uint64_t kReadAhead = 16;  // chunks decrypted at a time
constexpr std::string_view kArmourBegin = "-----BEGIN AGE ENCRYPTED FILE-----";
constexpr std::string_view kArmourEnd = "-----END AGE ENCRYPTED FILE-----";

std::array<std::uint8_t, 12> chunk_nonce(std::uint64_t counter, bool last) {
  std::array<std::uint8_t, 12> nonce{};
  for (int i = 0; i < 8; ++i) nonce[10 - i] = static_cast<std::uint8_t>(counter >> (8 * i));
  nonce[11] = last ? 1 : 0;
  return nonce;
}

}  // namespace

struct ChunkCipher::State {
  EVP_CIPHER_CTX* context = EVP_CIPHER_CTX_new();
  bool encrypt = false;
  ~State() { EVP_CIPHER_CTX_free(context); }
};

ChunkCipher::ChunkCipher(const Secret& file_key, ByteView nonce, bool encrypt)
    : state_(std::make_unique<State>()) {
  Secret key = hkdf_sha256(file_key.view(), nonce, "payload");
  state_->encrypt = encrypt;
  if (state_->context == nullptr ||
      EVP_CipherInit_ex(state_->context, EVP_chacha20_poly1305(), nullptr, key.data(), nullptr,
                        encrypt ? 1 : 0) != 1) {
    throw Error(ErrorKind::kFailed, "the cryptographic library offers no ChaCha20-Poly1305");
  }
}

ChunkCipher::~ChunkCipher() = default;

void ChunkCipher::seal(std::uint64_t counter, bool last, ByteView plain, std::uint8_t* out) {
  auto nonce = chunk_nonce(counter, last);
  int n = 0, rest = 0;
  bool ok =
      EVP_EncryptInit_ex(state_->context, nullptr, nullptr, nullptr, nonce.data()) == 1 &&
      (plain.empty() || EVP_EncryptUpdate(state_->context, out, &n, plain.data(),
                                          static_cast<int>(plain.size())) == 1) &&
      EVP_EncryptFinal_ex(state_->context, out + n, &rest) == 1 &&
      EVP_CIPHER_CTX_ctrl(state_->context, EVP_CTRL_AEAD_GET_TAG, kAgeTag, out + plain.size()) == 1;
  if (!ok) throw Error(ErrorKind::kFailed, "encryption failed");
}

bool ChunkCipher::open(std::uint64_t counter, bool last, ByteView sealed, std::uint8_t* out) {
  auto nonce = chunk_nonce(counter, last);
  std::size_t length = sealed.size() - kAgeTag;
  std::array<std::uint8_t, kAgeTag> tag;
  std::copy_n(sealed.data() + length, kAgeTag, tag.begin());
  int n = 0, rest = 0;
  std::uint8_t nowhere[16];
  return EVP_DecryptInit_ex(state_->context, nullptr, nullptr, nullptr, nonce.data()) == 1 &&
         EVP_CIPHER_CTX_ctrl(state_->context, EVP_CTRL_AEAD_SET_TAG, kAgeTag, tag.data()) == 1 &&
         (length == 0 || EVP_DecryptUpdate(state_->context, out, &n, sealed.data(),
                                           static_cast<int>(length)) == 1) &&
         EVP_DecryptFinal_ex(state_->context, length == 0 ? nowhere : out + n, &rest) == 1;
}

AgeWriter::AgeWriter(ByteSink& sink, std::span<const Recipient> recipients)
    : sink_(sink), file_key_(make_file_key()) {
  start(age_header_for(file_key_, recipients));
}

AgeWriter::AgeWriter(ByteSink& sink, const Secret& passphrase)
    : sink_(sink), file_key_(make_file_key()) {
  start(age_header_for_passphrase(file_key_, passphrase));
}

void AgeWriter::start(const std::string& header) {
  std::array<std::uint8_t, kNonceSize> nonce;
  randombytes_buf(nonce.data(), nonce.size());
  cipher_ = std::make_unique<ChunkCipher>(file_key_, nonce, true);
  sink_.write(as_bytes(header));
  sink_.write(nonce);
  header_size_ = header.size() + nonce.size();
  pending_.reserve(kAgeChunk);
  sealed_.resize(kAgeSealedChunk);
}

void AgeWriter::put_chunk(ByteView plain, bool last) {
  cipher_->seal(counter_++, last, plain, sealed_.data());
  sink_.write({sealed_.data(), plain.size() + kAgeTag});
}

// A full chunk is held back until more comes: only then is it known not to be the last.
void AgeWriter::write(ByteView bytes) {
  while (!bytes.empty()) {
    if (pending_.size() == kAgeChunk) {
      put_chunk(pending_, false);
      pending_.clear();
    }
    if (pending_.empty()) {
      for (; bytes.size() > kAgeChunk; bytes = bytes.subspan(kAgeChunk)) {
        put_chunk(bytes.first(kAgeChunk), false);
      }
    }
    std::size_t n = std::min(bytes.size(), kAgeChunk - pending_.size());
    pending_.insert(pending_.end(), bytes.begin(), bytes.begin() + static_cast<std::ptrdiff_t>(n));
    bytes = bytes.subspan(n);
  }
}

void AgeWriter::finish() {
  put_chunk(pending_, true);
  pending_.clear();
}

// What passed may have been a key.
AgeWriter::~AgeWriter() {
  wipe(pending_.data(), pending_.capacity());
}

AgeReader::~AgeReader() {
  wipe(plain_.data(), plain_.capacity());
}

std::uint64_t AgeWriter::sealed_size(std::uint64_t plain_bytes) const {
  std::uint64_t chunks = std::max<std::uint64_t>(1, (plain_bytes + kAgeChunk - 1) / kAgeChunk);
  return header_size_ + plain_bytes + chunks * kAgeTag;
}

AgeReader::AgeReader(ByteSource& source, std::span<const Identity> identities, std::string what)
    : source_(source), what_(std::move(what)) {
  AgeHeader header = AgeHeader::read(source_, what_);
  auto file_key = header.unwrap(identities);
  if (!file_key) {
    throw Error(ErrorKind::kPassphrase, what_ + ": encrypted for another key");
  }
  open(header.size(), *file_key);
}

AgeReader::AgeReader(ByteSource& source, const Secret& file_key, std::string what)
    : source_(source), what_(std::move(what)) {
  open(AgeHeader::read(source_, what_).size(), file_key);
}

void AgeReader::open(std::uint64_t header_size, const Secret& file_key) {
  auto cut = [&] { return Error(ErrorKind::kDamage, what_ + ": cut short"); };
  if (source_.size() < header_size + kNonceSize + kAgeTag) throw cut();
  std::array<std::uint8_t, kNonceSize> nonce;
  source_.read_at(header_size, nonce);
  cipher_ = std::make_unique<ChunkCipher>(file_key, nonce, false);
  payload_ = header_size + kNonceSize;
  sealed_total_ = source_.size() - payload_;
  chunks_ = (sealed_total_ + kAgeSealedChunk - 1) / kAgeSealedChunk;
  std::uint64_t last = sealed_total_ - (chunks_ - 1) * kAgeSealedChunk;
  // The last chunk may be empty only if it is the only one.
  if (last < kAgeTag || (last == kAgeTag && chunks_ > 1)) throw cut();
  plain_size_ = sealed_total_ - chunks_ * kAgeTag;
  load(chunks_ - 1, 1);
}

void AgeReader::load(std::uint64_t first, std::uint64_t count) {
  std::uint64_t begin = first * kAgeSealedChunk;
  std::uint64_t end = std::min(sealed_total_, (first + count) * kAgeSealedChunk);
  sealed_.resize(end - begin);
  source_.read_at(payload_ + begin, sealed_);
  plain_.resize(end - begin - count * kAgeTag);
  loaded_count_ = 0;
  for (std::uint64_t i = 0; i < count; ++i) {
    ByteView sealed = ByteView(sealed_).subspan(i * kAgeSealedChunk);
    sealed = sealed.first(std::min(sealed.size(), kAgeSealedChunk));
    if (!cipher_->open(first + i, first + i == chunks_ - 1, sealed,
                       plain_.data() + i * kAgeChunk)) {
      throw Error(ErrorKind::kDamage, what_ + ": damaged at byte " +
                                          std::to_string(payload_ + (first + i) * kAgeSealedChunk));
    }
  }
  loaded_first_ = first;
  loaded_count_ = count;
}

void AgeReader::read_at(std::uint64_t offset, std::span<std::uint8_t> out) {
  if (offset > plain_size_ || out.size() > plain_size_ - offset) {
    throw Error(ErrorKind::kDamage, what_ + ": ends too early");
  }
  while (!out.empty()) {
    std::uint64_t chunk = offset / kAgeChunk;
    if (chunk < loaded_first_ || chunk >= loaded_first_ + loaded_count_) {
      std::uint64_t wanted = (offset + out.size() + kAgeChunk - 1) / kAgeChunk - chunk;
      load(chunk, std::min({wanted, kReadAhead, chunks_ - chunk}));
    }
    std::uint64_t skip = offset - loaded_first_ * kAgeChunk;
    std::size_t n = std::min<std::uint64_t>(out.size(), plain_.size() - skip);
    std::copy_n(plain_.begin() + static_cast<std::ptrdiff_t>(skip), n, out.begin());
    out = out.subspan(n);
    offset += n;
  }
}

Bytes age_encrypt(ByteView plain, std::span<const Recipient> recipients) {
  MemorySink sink;
  AgeWriter writer(sink, recipients);
  writer.write(plain);
  writer.finish();
  return std::move(sink.data);
}

std::string age_encrypt_armoured(ByteView plain, const Secret& passphrase) {
  MemorySink sink;
  AgeWriter writer(sink, passphrase);
  writer.write(plain);
  writer.finish();
  return age_armour(sink.data);
}

std::string age_encrypt_armoured(ByteView plain, std::span<const Recipient> recipients) {
  return age_armour(age_encrypt(plain, recipients));
}

namespace {

Secret decrypt_document(ByteSource& source, const std::optional<Secret>& file_key,
                        const std::string& what, std::string_view refused) {
  if (!file_key) throw Error(ErrorKind::kPassphrase, what + ": " + std::string(refused));
  AgeReader reader(source, *file_key, what);
  if (reader.size() > kSmallDocument) throw Error(ErrorKind::kDamage, what + ": too long");
  Secret plain(reader.size());
  reader.read_at(0, {plain.data(), plain.size()});
  return plain;
}

}  // namespace

Secret age_decrypt(ByteView file, const Secret& passphrase, const std::string& what) {
  MemorySource source(age_dearmour(file, what));
  AgeHeader header = AgeHeader::read(source, what);
  return decrypt_document(source, header.unwrap_with_passphrase(passphrase), what,
                          "the passphrase is wrong");
}

Secret age_decrypt(ByteView file, std::span<const Identity> identities, const std::string& what) {
  MemorySource source(age_dearmour(file, what));
  AgeHeader header = AgeHeader::read(source, what);
  return decrypt_document(source, header.unwrap(identities), what, "encrypted for another key");
}

std::string age_armour(ByteView file) {
  std::string encoded = base64_encode(as_text(file));
  std::string text(kArmourBegin);
  text += '\n';
  for (std::size_t i = 0; i < encoded.size(); i += 64) {
    text += encoded.substr(i, 64);
    text += '\n';
  }
  text += kArmourEnd;
  text += '\n';
  return text;
}

Bytes age_dearmour(ByteView file, const std::string& what) {
  std::string_view text = as_text(file);
  std::string_view body = trimmed(text);
  if (!body.starts_with(kArmourBegin)) return Bytes(file.begin(), file.end());
  auto bad = [&] { return Error(ErrorKind::kDamage, what + ": its age armour is malformed"); };
  if (!body.ends_with(kArmourEnd)) throw bad();
  body = body.substr(kArmourBegin.size(), body.size() - kArmourBegin.size() - kArmourEnd.size());
  std::vector<std::string> lines = split(body, '\n');
  for (auto& line : lines) {
    if (!line.empty() && line.back() == '\r') line.pop_back();
  }
  if (lines.size() < 3 || !lines.front().empty() || !lines.back().empty()) throw bad();
  std::string encoded;
  for (std::size_t i = 1; i + 1 < lines.size(); ++i) {
    bool last = i + 2 == lines.size();
    if (lines[i].empty() || lines[i].size() > 64 || (!last && lines[i].size() != 64)) throw bad();
    encoded += lines[i];
  }
  auto decoded = base64_decode(encoded);
  if (!decoded) throw bad();
  return Bytes(decoded->begin(), decoded->end());
}

}  // namespace kestrum
