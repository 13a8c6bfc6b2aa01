#include "kestrum/restore/file_writers.h"

#include <unistd.h>

#include <algorithm>
#include <cerrno>
#include <chrono>

#include "kestrum/base/error.h"
#include "kestrum/select/source_file.h"

namespace kestrum {
namespace {

// A batch ends where so much of the tar lies behind its beginning, or with so many files, or in so
// many folders, which are held open.
constexpr std::uint64_t kBatchStretch = 4 << 20;  // bytes
constexpr std::size_t kBatchFiles = 256, kBatchFolders = 96;
// The first few are that small, so that every thread soon has something to do. Those behind them
// are so many times larger, but for their folders, since the blocks at their ends are unpacked by
// two threads.
constexpr std::size_t kFirstBatches = 8, kLargerBy = 4;
constexpr std::size_t kMostWriters = 4;
constexpr auto kWaitFor = std::chrono::milliseconds(100);

std::size_t threads_here() {
  static const std::size_t threads =
      std::clamp<std::size_t>(std::thread::hardware_concurrency(), 1, kMostWriters);
  return threads;
}

void write_all(int fd, std::uint64_t offset, ByteView data, const std::string& shown) {
  while (!data.empty()) {
    ssize_t n = ::pwrite(fd, data.data(), data.size(), static_cast<off_t>(offset));
    if (n < 0 && errno == EINTR) continue;
    if (n < 0) throw system_error(errno, shown);
    data = data.subspan(static_cast<std::size_t>(n));
    offset += static_cast<std::uint64_t>(n);
  }
}

}  // namespace

FileWriters::FileWriters(NewReader new_reader, StopRequest stop, Listener listener)
    : new_reader_(std::move(new_reader)), stop_(std::move(stop)), listener_(std::move(listener)) {}

FileWriters::~FileWriters() {
  stop_threads();
}

void FileWriters::stop_threads() {
  {
    std::lock_guard lock(mutex_);
    given_up_ = true;
  }
  changed_.notify_all();
  for (std::thread& thread : threads_) thread.join();
  threads_.clear();
}

void FileWriters::close_readers() {
  stop_threads();
  given_up_ = false;
}

void FileWriters::give_up() {
  stop_threads();
  for (auto& batch : std::exchange(given_, {})) {
    for (FileJob& job : batch->files) {
      if (job.made && !job.told) listener_.done(job);
    }
  }
}

void FileWriters::add(FileJob job) {
  std::size_t larger_by = batches_ < kFirstBatches ? 1 : kLargerBy;
  bool goes_on = filling_ != nullptr && filling_->files.size() < larger_by * kBatchFiles &&
                 filling_->folders < kBatchFolders;
  if (goes_on) {
    const ContentLocation &first = filling_->files.front().location, &next = job.location;
    goes_on = first.set == next.set && next.tar_offset >= first.tar_offset &&
              next.tar_offset - first.tar_offset < larger_by * kBatchStretch &&
              first.ranges.empty() && next.ranges.empty();
  }
  if (!goes_on) submit();
  if (filling_ == nullptr) filling_ = std::make_unique<Batch>();
  if (filling_->files.empty() || filling_->files.back().spot.parent != job.spot.parent) {
    ++filling_->folders;
  }
  under_way_.emplace(job.placement.at.tree, job.placement.at.rel);
  filling_->files.push_back(std::move(job));
}

void FileWriters::submit() {
  if (filling_ == nullptr) return;
  while (given_.size() >= 2 * threads_here()) tell_oldest();
  if (threads_.size() < std::min(threads_here(), given_.size() + 1)) {
    threads_.emplace_back([this] { work(); });
  }
  {
    std::lock_guard lock(mutex_);
    waiting_.push_back(filling_.get());
  }
  given_.push_back(std::move(filling_));
  ++batches_;
  changed_.notify_all();
}

void FileWriters::tell_oldest() {
  Batch& batch = *given_.front();
  {
    std::unique_lock lock(mutex_);
    while (!changed_.wait_for(lock, kWaitFor, [&] { return batch.done.load(); })) {
      lock.unlock();
      listener_.waiting();
      lock.lock();
    }
  }
  for (FileJob& job : batch.files) {
    under_way_.erase({job.placement.at.tree, job.placement.at.rel});
    job.told = true;
    listener_.done(job);
  }
  given_.pop_front();
}

bool FileWriters::has(const TargetPath& at) const {
  return under_way_.contains({at.tree, at.rel});
}

void FileWriters::drain() {
  submit();
  while (!given_.empty()) tell_oldest();
}

void FileWriters::work() {
  std::unique_ptr<ContentReader> reader;
  for (;;) {
    Batch* batch = nullptr;
    {
      std::unique_lock lock(mutex_);
      changed_.wait(lock, [&] { return !waiting_.empty() || given_up_; });
      if (given_up_) return;
      batch = waiting_.front();
      waiting_.pop_front();
    }
    for (FileJob& job : batch->files) {
      try {
        if (given_up_) return;
        if (reader == nullptr) reader = new_reader_();
        write(job, *reader);
      } catch (...) {
        job.error = std::current_exception();
      }
    }
    {
      std::lock_guard lock(mutex_);
      batch->done = true;
    }
    changed_.notify_all();
  }
}

void FileWriters::write(FileJob& job, ContentReader& reader) {
  const Entry& e = job.entry.line.entry;
  const std::string& shown = job.placement.at.shown;
  TargetFolder::NewFile file(std::move(job.spot), TargetFolder::first_mode(job.metadata));
  auto check_stop = [&] { return given_up_ || (stop_ && stop_()); };
  auto sink = [&](std::uint64_t offset, ByteView data) {
    if (check_stop()) throw Error(ErrorKind::kStopped, "stopped");
    bytes_ += data.size();
    auto put = [&](std::uint64_t at, ByteView piece) { write_all(file.fd(), at, piece, shown); };
    e.holes ? without_holes(offset, data, put) : put(offset, data);
  };
  bool in_pieces = !job.location.ranges.empty();
  if (in_pieces) {
    reader.read_pieces(job.location, sink);
  } else {
    reader.read(job.location, e.size, *job.entry.line.digest, sink);
  }
  if (e.holes && ::ftruncate(file.fd(), static_cast<off_t>(e.size)) != 0) {
    throw system_error(errno, shown);
  }
  // Written in the order in which it is read best, it is digested as a whole.
  if (in_pieces && digest_of_file(file.fd(), check_stop) != *job.entry.line.digest) {
    throw Error(ErrorKind::kDamage,
                job.location.set.to_string() + ": content that does not match its digest");
  }
  file.set_metadata(job.metadata, job.owner, job.unset);
  job.made = file.keep(job.placement.replace);
}

}  // namespace kestrum
