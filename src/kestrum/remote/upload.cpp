#include "kestrum/remote/upload.h"

#include <fmt/format.h>

#include <algorithm>
#include <chrono>
#include <utility>

#include "kestrum/base/file.h"
#include "kestrum/base/units.h"

namespace kestrum {
namespace {

constexpr std::uint64_t kToFill = 2 << 20;    // bytes that are kept beside those on their way
constexpr std::uint64_t kProgress = 1 << 20;  // after which a connection counts as one that works
constexpr std::chrono::milliseconds kToSettle{200};
constexpr std::size_t kStuckMost = 6;          // goes in which nothing came to be there
constexpr std::uint64_t kHardlyAny = 1 << 20;  // free room that is none

}  // namespace

Upload::Upload(std::shared_ptr<Store> store, std::string path, std::string name)
    : store_(std::move(store)),
      path_(std::move(path)),
      name_(std::move(name)),
      tells_(store_->tells_arrival()),
      on_the_way_(store_->on_the_way()),
      ring_(on_the_way_ + kToFill) {}

Upload::~Upload() {
  {
    std::lock_guard lock(mutex_);
    broken_off_ = true;
  }
  changed_.notify_all();
  if (sender_.joinable()) sender_.join();
}

void Upload::start() {
  if (sender_.joinable()) return;
  if (kept_.empty()) kept_.resize(ring_);
  sender_ = std::thread([this] { send(); });
}

// What ended the sending; after want of room it can begin again.
void Upload::rethrow(std::unique_lock<std::mutex>& lock) {
  std::exception_ptr failure = failure_;
  try {
    std::rethrow_exception(failure);
  } catch (const Error& error) {
    if (error.kind() != ErrorKind::kNoRoom) throw;
    lock.unlock();
    sender_.join();
    lock.lock();
    failure_ = nullptr;
    throw;
  }
}

void Upload::write(ByteView bytes) {
  std::unique_lock lock(mutex_);
  start();
  // Of a call that found no room some was taken already; it is made again with the same bytes.
  bytes = bytes.subspan(std::exchange(taken_, 0));
  std::size_t length = bytes.size();
  while (!bytes.empty()) {
    changed_.wait(lock, [&] { return failure_ || written_ - kept_from_ < ring_; });
    if (failure_) {
      taken_ = length - bytes.size();
      rethrow(lock);
    }
    std::size_t begin = written_ % ring_;
    std::size_t some =
        std::min<std::uint64_t>({bytes.size(), ring_ - (written_ - kept_from_), ring_ - begin});
    std::copy_n(bytes.begin(), some, kept_.begin() + static_cast<std::ptrdiff_t>(begin));
    bytes = bytes.subspan(some);
    written_ += some;
    changed_.notify_all();
  }
}

void Upload::end() {
  std::lock_guard lock(mutex_);
  ended_ = true;
  start();
  changed_.notify_all();
}

void Upload::sync() {
  end();
  std::unique_lock lock(mutex_);
  changed_.wait(lock, [&] { return failure_ || done_; });
  if (failure_) rethrow(lock);
}

bool Upload::ready() {
  std::lock_guard lock(mutex_);
  return broken_off_ || ended_ || written_ > sent_;
}

void Upload::note_arrived(std::size_t bytes) {
  {
    std::lock_guard lock(mutex_);
    kept_from_ += bytes;
  }
  changed_.notify_all();
}

std::optional<std::size_t> Upload::fill(std::span<std::uint8_t> out) {
  std::unique_lock lock(mutex_);
  auto waiting = [&] { return written_ - sent_; };
  changed_.wait(lock, [&] { return broken_off_ || ended_ || waiting() > 0; });
  if (broken_off_) return std::nullopt;
  std::size_t some = std::min<std::uint64_t>(out.size(), waiting());
  for (std::size_t done = 0; done < some;) {
    std::size_t begin = (sent_ + done) % ring_;
    std::size_t length = std::min<std::uint64_t>(some - done, ring_ - begin);
    std::copy_n(kept_.begin() + static_cast<std::ptrdiff_t>(begin), length,
                out.begin() + static_cast<std::ptrdiff_t>(done));
    done += length;
  }
  sent_ += some;
  if (!tells_ && sent_ > on_the_way_) kept_from_ = std::max(kept_from_, sent_ - on_the_way_);
  changed_.notify_all();
  return some;
}

// The server may still be writing what came before the connection broke.
std::optional<std::uint64_t> Upload::settled_size() {
  for (std::optional<std::uint64_t> before = store_->size(path_);;) {
    std::this_thread::sleep_for(kToSettle);
    std::optional<std::uint64_t> there = store_->size(path_);
    if (there == before) return there;
    before = there;
  }
}

// Where the server's file ends; where it says what arrived, behind that and nothing else: of what
// came after something that it refused, some may be there.
std::uint64_t Upload::where_to_go_on() {
  std::optional<std::uint64_t> there = tells_ ? store_->size(path_) : settled_size();
  std::lock_guard lock(mutex_);
  std::uint64_t offset = there ? std::min(*there, tells_ ? kept_from_ : sent_) : 0;
  if (offset >= kept_from_) return offset;
  throw Error(ErrorKind::kPlace,
              fmt::format("{}: the connection broke, and what the server has of it ends at {}",
                          name_, there.value_or(0)),
              "the next run goes on with it")
      .about_path(name_)
      .may_come();
}

void Upload::go(Retry& retry) {
  std::uint64_t offset = 0;
  if (++goes_ > 1) {
    offset = where_to_go_on();
    std::lock_guard lock(mutex_);
    sent_ = offset;
    if (offset > went_from_ + kProgress) retry.came_through();
    stuck_ = offset > went_from_ ? 0 : stuck_ + 1;
    if (stuck_ >= kStuckMost) {
      throw Error(
          ErrorKind::kFailed,
          fmt::format("{}: the server answers, takes no more than {} of it, and does not say "
                      "why",
                      name_, format_size(offset)),
          "its disk may be full, or what this account may store")
          .about_path(name_);
    }
    went_from_ = offset;
  }
  Content content;
  content.fill = [this](std::span<std::uint8_t> out) { return fill(out); };
  content.ready = [this] { return ready(); };
  content.arrived = [this](std::size_t bytes) { note_arrived(bytes); };
  store_->write(path_, offset, std::move(content));
}

void Upload::send() {
  Retry retry([this] { return broken_off_.load(); });
  for (;;) {
    try {
      try {
        go(retry);
        // What went through at one stroke was acknowledged as it is.
        bool acknowledged = tells_ || (goes_ == 1 && written_ <= kProgress);
        if (auto there = acknowledged ? written_ : store_->size(path_); there != written_) {
          throw Error(ErrorKind::kFailed,
                      fmt::format("{}: {} bytes were sent, and the server has {}", name_, written_,
                                  there.value_or(0)))
              .about_path(name_);
        }
        std::lock_guard lock(mutex_);
        done_ = true;
      } catch (const BrokenConnection& error) {
        {
          std::lock_guard lock(mutex_);
          if (broken_off_) return;
        }
        full_disk_is_told();
        retry.wait_after(error);
        continue;
      } catch (const Error& error) {
        if (error.kind() == ErrorKind::kFailed) full_disk_is_told();
        throw;
      }
    } catch (...) {
      std::lock_guard lock(mutex_);
      failure_ = std::current_exception();
    }
    changed_.notify_all();
    return;
  }
}

// Many servers only say that something failed.
void Upload::full_disk_is_told() {
  std::optional<Room> room;
  try {
    room = store_->room(parent_of(path_));
  } catch (const BrokenConnection&) {
    return;
  }
  if (!room || room->free >= kHardlyAny) return;
  throw Error(ErrorKind::kNoRoom, name_ + ": the server's disk is full").about_path(name_);
}

}  // namespace kestrum
