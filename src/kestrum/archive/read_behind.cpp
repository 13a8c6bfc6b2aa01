#include "kestrum/archive/read_behind.h"

#include <algorithm>
#include <exception>
#include <utility>

namespace kestrum {

ReadBehind::ReadBehind(Place& place, std::string path)
    : place_(place),
      path_(std::move(path)),
      distance_(std::max(place_.behind_writer() / kDigestBlock, std::uint64_t{1}) * kDigestBlock) {}

ReadBehind::~ReadBehind() {
  if (!thread_) return;
  {
    std::lock_guard lock(mutex_);
    given_up_ = true;
  }
  changed_.notify_all();
  if (thread_->joinable()) thread_->join();
}

void ReadBehind::written(std::uint64_t size) {
  {
    std::lock_guard lock(mutex_);
    size_ = size;
  }
  if (size < 2 * distance_) return;
  if (!thread_) thread_.emplace([this] { run(); });
  changed_.notify_all();
}

bool ReadBehind::gave_back(std::uint64_t size, const std::string& blocks) {
  if (!thread_) return false;
  {
    std::lock_guard lock(mutex_);
    size_ = size;
    complete_ = true;
  }
  changed_.notify_all();
  thread_->join();
  return !failed_ && read_ == size && digester_.finish() == blocks;
}

bool ReadBehind::follow() {
  Nanos began = steady_now(), waited = 0;
  Following following;
  following.until = [&](std::uint64_t at) {
    Nanos from = steady_now();
    std::unique_lock lock(mutex_);
    changed_.wait(lock,
                  [&] { return complete_ || given_up_ || size_ >= at + distance_ + kDigestBlock; });
    waited += steady_now() - from;
    return given_up_ ? at : complete_ ? size_ : size_ - distance_;
  };
  following.sink = [&](ByteView bytes) {
    digester_.update(bytes);
    read_ += bytes.size();
  };
  following.given_up = [&] {
    std::lock_guard lock(mutex_);
    return given_up_;
  };
  bool followed = place_.follow(path_, following);
  busy_ = steady_now() - began - waited;
  return followed;
}

void ReadBehind::run() {
  try {
    if (follow()) return;
    for (;;) {
      std::uint64_t until = 0;
      bool last = false;
      {
        std::unique_lock lock(mutex_);
        changed_.wait(lock,
                      [&] { return complete_ || given_up_ || size_ >= read_ + 2 * distance_; });
        if (given_up_) return;
        last = complete_;
        until = last ? size_ : (size_ - distance_) / distance_ * distance_;
      }
      read(until);
      if (last) return;
    }
  } catch (const std::exception&) {
    failed_ = true;  // seen once it is joined
  }
}

void ReadBehind::read(std::uint64_t until) {
  if (read_ == until) return;
  Nanos began = steady_now();
  auto file = place_.open(path_, true);
  Bytes buffer(kDigestBlock);
  while (read_ < until) {
    {
      std::lock_guard lock(mutex_);
      if (given_up_) return;
    }
    std::span<std::uint8_t> piece(buffer.data(), std::min(kDigestBlock, until - read_));
    file->read_at(read_, piece);
    digester_.update(piece);
    read_ += piece.size();
  }
  busy_ += steady_now() - began;
}

}  // namespace kestrum
