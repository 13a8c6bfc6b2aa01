#include "kestrum/remote/download.h"

#include <fmt/format.h>

#include <algorithm>

#include "kestrum/remote/retry.h"

namespace kestrum {
namespace {

constexpr std::uint64_t kFirstStep = 64 << 10, kLongestStep = 4 << 20;  // bytes

}  // namespace

Download::Window Download::fetch(std::uint64_t from, std::uint64_t length) const {
  Window window;
  window.from = from;
  window.bytes.resize(std::min(length, size_ - from));
  Retry retry;
  for (std::size_t has = 0; has < window.bytes.size();) {
    std::size_t filled = 0;
    try {
      store_->read(path_, from + has, std::span(window.bytes).subspan(has),
                   from + window.bytes.size() == size_, filled);
      has += filled;
    } catch (const BrokenConnection& error) {
      if (filled > 0) retry.came_through();
      has += filled;
      retry.wait_after(error);
    }
  }
  return window;
}

// So that the window begins at `offset` and holds some of what is wanted.
void Download::move_to(std::uint64_t offset, std::uint64_t wanted) {
  if (ahead_.valid()) {
    bool next = offset == ahead_from_;
    Window window = ahead_.get();
    if (next) {
      window_ = std::move(window);
      return;
    }
  }
  window_ = fetch(offset, std::clamp(std::max(wanted, step_), kFirstStep, kLongestStep));
}

void Download::read_at(std::uint64_t offset, std::span<std::uint8_t> out) {
  std::lock_guard lock(mutex_);
  if (offset > size_ || out.size() > size_ - offset) {
    throw Error(ErrorKind::kDamage, name_ + ": ends too early").about_path(name_);
  }
  bool goes_on = offset == expected_ && offset != 0;
  if (!goes_on && offset != expected_) step_ = 0;
  expected_ = offset + out.size();
  while (!out.empty()) {
    if (offset < window_.from || offset >= window_.end()) {
      if (goes_on) step_ = std::clamp(step_ * 2, kFirstStep, kLongestStep);
      move_to(offset, out.size());
      bool long_enough = goes_on && step_ == kLongestStep && window_.end() < size_;
      if (long_enough) {
        ahead_from_ = window_.end();
        ahead_ = std::async(std::launch::async, [this] { return fetch(ahead_from_, step_); });
      }
      goes_on = true;
    }
    std::size_t some = std::min<std::uint64_t>(out.size(), window_.end() - offset);
    std::copy_n(window_.bytes.begin() + static_cast<std::ptrdiff_t>(offset - window_.from), some,
                out.begin());
    out = out.subspan(some);
    offset += some;
  }
}

}  // namespace kestrum
