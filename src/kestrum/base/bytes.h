// Bytes in memory and the two interfaces that move them: a sink written from front to back, and a
// source read at any offset.
#pragma once

#include <cstddef>
#include <cstdint>
#include <span>
#include <string>
#include <string_view>
#include <vector>

namespace kestrum {

using Bytes = std::vector<std::uint8_t>;
using ByteView = std::span<const std::uint8_t>;

inline ByteView as_bytes(std::string_view text) {
  return {reinterpret_cast<const std::uint8_t*>(text.data()), text.size()};
}
inline std::string_view as_text(ByteView bytes) {
  return {reinterpret_cast<const char*>(bytes.data()), bytes.size()};
}

class ByteSink {
 public:
  virtual ~ByteSink() = default;
  // Takes all of `bytes` or throws Error.
  virtual void write(ByteView bytes) = 0;
};

class ByteSource {
 public:
  virtual ~ByteSource() = default;
  virtual std::uint64_t size() const = 0;
  // Fills all of `out` from `offset` on, or throws Error; reading past the end is kDamage.
  virtual void read_at(std::uint64_t offset, std::span<std::uint8_t> out) = 0;
};

// A sink and a source in memory, for small documents and tests.
class MemorySink : public ByteSink {
 public:
  void write(ByteView bytes) override { data.insert(data.end(), bytes.begin(), bytes.end()); }
  Bytes data;
};

class MemorySource : public ByteSource {
 public:
  explicit MemorySource(Bytes data) : data_(std::move(data)) {}
  explicit MemorySource(std::string_view text) : data_(text.begin(), text.end()) {}
  std::uint64_t size() const override { return data_.size(); }
  void read_at(std::uint64_t offset, std::span<std::uint8_t> out) override;

 private:
  Bytes data_;
};

// All of a source; throws Error(kDamage) naming `what` if it is longer than `limit`.
Bytes read_all(ByteSource& source, std::uint64_t limit, const std::string& what);

// `length` bytes that nobody can foresee. Throws Error(kFailed).
Bytes noise(std::size_t length);
inline constexpr std::uint64_t kNoiseAtOnce = 64 << 10;  // bytes, for who needs much

inline void put_le64(std::uint8_t* out, std::uint64_t v) {
  for (int i = 0; i < 8; ++i) out[i] = static_cast<std::uint8_t>(v >> (8 * i));
}
inline std::uint64_t get_le64(const std::uint8_t* in) {
  std::uint64_t v = 0;
  for (int i = 0; i < 8; ++i) v |= static_cast<std::uint64_t>(in[i]) << (8 * i);
  return v;
}

inline void put_le32(std::uint8_t* out, std::uint32_t v) {
  for (int i = 0; i < 4; ++i) out[i] = static_cast<std::uint8_t>(v >> (8 * i));
}
inline std::uint32_t get_le32(const std::uint8_t* in) {
  return in[0] | in[1] << 8 | in[2] << 16 | static_cast<std::uint32_t>(in[3]) << 24;
}

}  // namespace kestrum
