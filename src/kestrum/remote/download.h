// A file on a server, read at any offset.
#pragma once

#include <deque>
#include <functional>
#include <memory>
#include <mutex>
#include <string>

#include "kestrum/base/bytes.h"
#include "kestrum/remote/store.h"

namespace kestrum {

// Who reads from front to back, by one thread or several that are a little apart, is given what
// comes next while it is still under way; who reads here and there gets little more than was asked
// for. Of a connection that breaks, only what had not come is asked for again.
class Download : public ByteSource {
 public:
  // `name` is how messages name it, `size` its length in bytes.
  Download(std::shared_ptr<Store> store, std::string path, std::string name, std::uint64_t size);
  ~Download() override;

  std::uint64_t size() const override { return size_; }
  void read_at(std::uint64_t offset, std::span<std::uint8_t> out) override;

 private:
  struct Window {
    std::uint64_t from = 0;
    Bytes bytes;
    std::uint64_t end() const { return from + bytes.size(); }
  };
  class Stream;
  Window fetch(std::uint64_t from, std::uint64_t length) const;
  void get(std::uint64_t offset, std::uint64_t wanted);
  void hold(Window window);

  std::shared_ptr<Store> store_;
  std::string path_, name_;
  std::uint64_t size_;
  std::mutex mutex_;
  std::deque<Window> held_;
  std::uint64_t held_bytes_ = 0;
  // What came last ends at `frontier_`, and came without a gap from `row_from_` on.
  std::uint64_t row_from_ = 0, frontier_ = 0;
  std::unique_ptr<Stream> stream_;
};

// Calls `receive` of a store until all of a file's bytes from `from` up to `end` have come; gives
// them to `sink`, until that gives false.
void receive_all(Store& store, const std::string& path, const std::string& name, std::uint64_t from,
                 std::uint64_t end, bool to_end, const Store::Sink& sink,
                 const std::function<bool()>& given_up = {});

}  // namespace kestrum
