#include "kestrum/remote/download.h"

#include <fmt/format.h>

#include <algorithm>
#include <atomic>
#include <condition_variable>
#include <deque>
#include <exception>
#include <thread>

#include "kestrum/remote/retry.h"

namespace kestrum {
namespace {

constexpr std::uint64_t kAskedLeast = 64 << 10,
                        kAskedMost = 4 << 20;    // bytes that are asked for at a time
constexpr std::uint64_t kStreamAfter = 1 << 20;  // bytes that were read in a row
constexpr std::uint64_t kAhead = 4 << 20;        // bytes that wait to be read
constexpr std::uint64_t kHeld = 4 << 20;         // bytes that are kept for who comes a little later
constexpr std::uint64_t kNear = 4 << 20;  // bytes beyond what came last that still follow on it

Error too_short(const std::string& name) {
  return Error(ErrorKind::kDamage, name + ": ends too early").about_path(name);
}

}  // namespace

void receive_all(Store& store, const std::string& path, const std::string& name, std::uint64_t from,
                 std::uint64_t end, bool to_end, const Store::Sink& sink,
                 const std::function<bool()>& given_up) {
  Retry retry(given_up);
  bool broken_off = false;
  while (from < end && !broken_off) {
    std::uint64_t before = from;
    auto take = [&](ByteView bytes) {
      // What is asked for ends by itself: to break it off at its end would cost the connection.
      bool too_much = bytes.size() > end - from;
      bytes = bytes.first(std::min<std::uint64_t>(bytes.size(), end - from));
      broken_off = !sink(bytes);
      from += bytes.size();
      return !broken_off && !too_much;
    };
    try {
      Store::Stretch stretch{from, end - from, to_end, end - from >= kStreamAfter};
      if (!store.receive(path, stretch, take)) {
        throw Error(ErrorKind::kDamage, name + ": it is not there").about_path(name);
      }
      if (from < end && !broken_off) throw too_short(name);
    } catch (const BrokenConnection& error) {
      if (from > before) retry.came_through();
      retry.wait_after(error);
    }
  }
}

// The file from somewhere to its end, by a thread of its own, some way ahead of who reads it.
class Download::Stream {
 public:
  Stream(Download& of, std::uint64_t from) : at_(from) {
    thread_ = std::thread([this, &of, from] {
      try {
        receive_all(
            *of.store_, of.path_, of.name_, from, of.size_, true,
            [this](ByteView bytes) { return put(bytes); }, [this] { return broken_off_.load(); });
      } catch (...) {
        std::lock_guard lock(mutex_);
        failure_ = std::current_exception();
      }
      changed_.notify_all();
    });
  }
  ~Stream() {
    {
      std::lock_guard lock(mutex_);
      broken_off_ = true;
    }
    changed_.notify_all();
    thread_.join();
  }

  Window next() {
    std::unique_lock lock(mutex_);
    changed_.wait(lock, [&] { return failure_ || !pieces_.empty(); });
    if (pieces_.empty()) std::rethrow_exception(failure_);
    Window window{at_, std::move(pieces_.front())};
    pieces_.pop_front();
    waiting_ -= window.bytes.size();
    at_ = window.end();
    changed_.notify_all();
    return window;
  }

 private:
  bool put(ByteView bytes) {
    std::unique_lock lock(mutex_);
    changed_.wait(lock, [&] { return broken_off_ || waiting_ < kAhead; });
    if (broken_off_) return false;
    if (pieces_.empty() || pieces_.back().size() + bytes.size() > kStreamAfter) {
      pieces_.emplace_back();
      pieces_.back().reserve(kStreamAfter);
    }
    pieces_.back().insert(pieces_.back().end(), bytes.begin(), bytes.end());
    waiting_ += bytes.size();
    changed_.notify_all();
    return true;
  }

  std::uint64_t at_;
  std::mutex mutex_;
  std::condition_variable changed_;
  std::deque<Bytes> pieces_;
  std::uint64_t waiting_ = 0;  // bytes in them
  std::atomic<bool> broken_off_ = false;
  std::exception_ptr failure_;
  std::thread thread_;
};

Download::Download(std::shared_ptr<Store> store, std::string path, std::string name,
                   std::uint64_t size)
    : store_(std::move(store)), path_(std::move(path)), name_(std::move(name)), size_(size) {}

Download::~Download() = default;

Download::Window Download::fetch(std::uint64_t from, std::uint64_t length) const {
  Window window;
  window.from = from;
  std::uint64_t end = std::min(size_, from + length);
  window.bytes.reserve(end - from);
  receive_all(*store_, path_, name_, from, end, end == size_, [&](ByteView bytes) {
    window.bytes.insert(window.bytes.end(), bytes.begin(), bytes.end());
    return true;
  });
  return window;
}

// Keeps a window for whoever comes a little later, and lets the oldest go.
void Download::hold(Window window) {
  if (window.from > frontier_ || window.end() <= frontier_) row_from_ = window.from;
  frontier_ = window.end();
  held_bytes_ += window.bytes.size();
  held_.push_back(std::move(window));
  while (held_bytes_ > kHeld && held_.size() > 1) {
    held_bytes_ -= held_.front().bytes.size();
    held_.pop_front();
  }
}

// So that some window has what lies at `offset`.
void Download::get(std::uint64_t offset, std::uint64_t wanted) {
  bool near = offset >= frontier_ && offset - frontier_ <= kNear;
  if (!near) stream_.reset();
  std::uint64_t in_a_row = frontier_ - row_from_;
  // Who begins with much at a time reads all of it.
  bool whole = offset <= kNear && wanted >= kStreamAfter;
  bool stream = near && size_ - offset > kAskedMost && (whole || in_a_row >= kStreamAfter);
  if (stream && !stream_) {
    stream_ = std::make_unique<Stream>(*this, frontier_);
  }
  if (!stream_) {
    hold(fetch(offset, std::clamp(std::max(wanted, near ? in_a_row : 0), kAskedLeast, kAskedMost)));
    return;
  }
  while (frontier_ <= offset) hold(stream_->next());
}

void Download::read_at(std::uint64_t offset, std::span<std::uint8_t> out) {
  std::lock_guard lock(mutex_);
  if (offset > size_ || out.size() > size_ - offset) throw too_short(name_);
  while (!out.empty()) {
    auto has_it = [&](const Window& window) {
      return offset >= window.from && offset < window.end();
    };
    auto window = std::find_if(held_.begin(), held_.end(), has_it);
    if (window == held_.end()) {
      get(offset, out.size());
      window = std::find_if(held_.begin(), held_.end(), has_it);
    }
    std::size_t some = std::min<std::uint64_t>(out.size(), window->end() - offset);
    std::copy_n(window->bytes.begin() + static_cast<std::ptrdiff_t>(offset - window->from), some,
                out.begin());
    out = out.subspan(some);
    offset += some;
  }
}

}  // namespace kestrum
