// A file on a server, read at any offset.
#pragma once

#include <future>
#include <mutex>
#include <string>

#include "kestrum/base/bytes.h"
#include "kestrum/remote/store.h"

namespace kestrum {

// Who reads from front to back is given what comes next while it is still under way; who reads
// here and there gets little more than was asked for. Of a connection that breaks, only what had
// not come is asked for again.
class Download : public ByteSource {
 public:
  // `name` is how messages name it, `size` its length in bytes.
  Download(std::shared_ptr<Store> store, std::string path, std::string name, std::uint64_t size)
      : store_(std::move(store)), path_(std::move(path)), name_(std::move(name)), size_(size) {}

  std::uint64_t size() const override { return size_; }
  void read_at(std::uint64_t offset, std::span<std::uint8_t> out) override;

 private:
  struct Window {
    std::uint64_t from = 0;
    Bytes bytes;
    std::uint64_t end() const { return from + bytes.size(); }
  };
  Window fetch(std::uint64_t from, std::uint64_t length) const;
  void move_to(std::uint64_t offset, std::uint64_t wanted);

  std::shared_ptr<Store> store_;
  std::string path_, name_;
  std::uint64_t size_;
  std::mutex mutex_;
  Window window_;
  std::uint64_t expected_ = 0;  // where a read from front to back goes on
  std::uint64_t ahead_from_ = 0, step_ = 0;
  std::future<Window> ahead_;
};

}  // namespace kestrum
