// Memory that is wiped when it is given back.
#pragma once

#include <cstddef>
#include <cstdint>
#include <new>
#include <string>
#include <string_view>
#include <vector>

#include "kestrum/base/bytes.h"

namespace kestrum {

void wipe(void* memory, std::size_t bytes) noexcept;
// Memory that is not written to swap, as far as the system lets this process lock it, and that lies
// between pages which nobody can touch. Throws std::bad_alloc.
void* allocate_locked(std::size_t bytes);
void free_locked(void* memory) noexcept;  // wipes it

template <typename T>
struct WipingAllocator {
  using value_type = T;
  WipingAllocator() = default;
  template <typename U>
  explicit WipingAllocator(const WipingAllocator<U>&) noexcept {}
  T* allocate(std::size_t n) { return static_cast<T*>(allocate_locked(n * sizeof(T))); }
  void deallocate(T* p, std::size_t) noexcept { free_locked(p); }
  bool operator==(const WipingAllocator&) const { return true; }
};

// A passphrase, a key, or text that holds one. Never a std::string, which keeps short texts inside
// itself where no allocator wipes them.
class Secret {
 public:
  Secret() = default;
  explicit Secret(std::size_t size) : data_(size) {}
  explicit Secret(std::string_view text) : data_(text.begin(), text.end()) {}
  explicit Secret(ByteView bytes) : data_(bytes.begin(), bytes.end()) {}

  std::uint8_t* data() { return data_.data(); }
  const std::uint8_t* data() const { return data_.data(); }
  std::size_t size() const { return data_.size(); }
  bool empty() const { return data_.empty(); }
  std::string_view text() const { return as_text(view()); }
  ByteView view() const { return {data_.data(), data_.size()}; }
  void push_back(char c) { data_.push_back(static_cast<std::uint8_t>(c)); }
  void pop_back() { data_.pop_back(); }
  void append(std::string_view text) { data_.insert(data_.end(), text.begin(), text.end()); }
  bool operator==(const Secret&) const = default;

 private:
  std::vector<std::uint8_t, WipingAllocator<std::uint8_t>> data_;
};

// Initialises the cryptographic library once; throws Error(kFailed) if it cannot.
void crypto_start();

// All that can be read from `fd`, of at most `limit` bytes. Throws Error(kPassphrase) naming
// `what`.
Secret read_secret(int fd, const std::string& what, std::size_t limit);

}  // namespace kestrum
