#include "kestrum/backup/stretched_file.h"

#include <fmt/format.h>

#include <algorithm>
#include <cerrno>
#include <cstring>

#include "kestrum/archive/tar_format.h"
#include "kestrum/archive/tar_head.h"
#include "kestrum/select/source_file.h"

namespace kestrum {
namespace {

constexpr std::size_t kReadStep = 1 << 20;
// From so many ranges on all that follows counts as new, which takes the fewest.
constexpr std::size_t kRangesToRefer =
    kMostRanges - kMostStretched / (kStretchEntry - kLongestStretch) - 3 * kMostStretchedRuns;

}  // namespace

StretchedFiles::Stored StretchedFiles::store(Fd& fd, const Entry& e,
                                             const std::vector<DataRun>& data,
                                             StretchSource& source) {
  entry_ = &e;
  result_ = {};
  ahead_.resize(kReadStep + kLongestStretch);
  pending_.clear();
  pending_stretches_.clear();
  Digester digester;
  std::uint64_t done = 0;  // bytes of the file that are dealt with
  auto hole_until = [&](std::uint64_t offset) {
    if (offset <= done) return;
    put_new();
    append_range(result_.ranges, {offset - done, true, {}, 0, 0});
    digester.update_zeros(offset - done, [this] { feed_.check_stop(); });
    done = offset;
  };
  for (const DataRun& run : data) {
    if (!result_.complete) break;
    hole_until(run.offset);
    begin_ = end_ = 0;
    std::uint64_t at = run.offset, end = run.offset + run.length;
    while (done < end) {
      if (end_ - begin_ < kLongestStretch && at < end && result_.complete) {
        std::size_t before = end_ - begin_;
        result_.complete = fill(fd, at, end);
        digester.update(ByteView(ahead_).subspan(begin_ + before, end_ - begin_ - before));
        feed_.report(e.path, e.size - at);
        continue;
      }
      if (begin_ == end_) break;  // it ended early
      std::size_t left = end_ - begin_;
      take(source);
      done += left - (end_ - begin_);
    }
  }
  if (result_.complete) hole_until(e.size);
  put_new();
  result_.size = done;
  result_.digest = digester.finish();
  return std::move(result_);
}

// Reads on; false if the file ends before `end`, or cannot be read.
bool StretchedFiles::fill(Fd& fd, std::uint64_t& at, std::uint64_t end) {
  feed_.check_stop();
  std::memmove(ahead_.data(), ahead_.data() + begin_, end_ - begin_);
  end_ -= begin_;
  begin_ = 0;
  std::size_t room = std::min<std::uint64_t>({ahead_.size() - end_, end - at, kReadStep});
  ssize_t n = read_some(fd.get(), at, std::span(ahead_).subspan(end_, room));
  if (n < 0) result_.error = errno;
  if (n <= 0) return false;
  end_ += static_cast<std::size_t>(n);
  at += static_cast<std::uint64_t>(n);
  return true;
}

// Deals with the stretch that begins here.
void StretchedFiles::take(StretchSource& source) {
  ByteView content(ahead_.data() + begin_, end_ - begin_);
  bool refer = result_.ranges.size() < kRangesToRefer;
  auto refer_to = [&](const ContentRange& place) {
    put_new();
    append_range(result_.ranges, place);
    begin_ += place.length;
  };
  if (const HeldStretch* held = refer ? source.expected() : nullptr) {
    std::size_t length = held->stretch.length;
    bool same =
        length <= content.size() && stretch_digest(content.first(length)) == held->stretch.digest;
    if (same) {
      refer_to(held->place);
      return source.took_expected();
    }
  }
  std::size_t length = first_stretch(content);
  Stretch stretch{static_cast<std::uint32_t>(length), stretch_digest(content.first(length))};
  if (refer) {
    if (auto place = source.find(stretch)) return refer_to(*place);
  }
  if (pending_.size() + length > kStretchEntry) put_new();
  pending_.insert(pending_.end(), content.begin(),
                  content.begin() + static_cast<std::ptrdiff_t>(length));
  pending_stretches_.push_back(stretch);
  begin_ += length;
}

// What is new, and follows each other, becomes an entry.
void StretchedFiles::put_new() {
  if (pending_.empty()) return;
  if (number_ == 0) number_ = index_.next_stretch_number();
  std::uint64_t number = number_++;
  Entry entry;
  entry.path = fmt::format("{}/{:09}", folder_, number);
  entry.size = pending_.size();
  entry.mode = 0600;
  entry.mtime = entry_->mtime;
  entry.uid = entry_->uid;
  entry.gid = entry_->gid;
  std::uint64_t offset = writer_.tar_offset();
  writer_.begin_entry(entry.path, tar_entry_head(entry), entry.size + tar_padding(entry.size));
  writer_.append(pending_);
  writer_.append_zeros(tar_padding(entry.size));
  index_.journal_listed(offset, entry.path, number);
  index_.journal_stretches({offset, 0, 0, std::move(pending_stretches_), ""});
  append_range(result_.ranges, {entry.size, false, {}, offset, 0});
  result_.stored += entry.size;
  pending_.clear();
  pending_stretches_.clear();
}

}  // namespace kestrum
