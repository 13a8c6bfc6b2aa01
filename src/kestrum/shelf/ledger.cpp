#include "kestrum/shelf/ledger.h"

#include <algorithm>

#include "kestrum/base/error.h"
#include "kestrum/select/path_order.h"

namespace kestrum {
namespace {

constexpr std::size_t kLedgerFrame = 256 << 10;  // bytes of text a frame
constexpr std::size_t kLineLimit = 8 << 20;
constexpr std::size_t kEntriesAtOnce = 2048, kRangesAtOnce = 20'000;

}  // namespace

LedgerWriter::LedgerWriter(Place& place, const std::string& path, const Packing& packing,
                           const LedgerHead& head)
    : file_(place, path, packing), compressed_(packing.compressed()), compressor_(packing.level) {
  put_line(ledger_head_line(head));
}

void LedgerWriter::add(LedgerEntry entry) {
  ++lines_;
  ranges_ += entry.ranges.size();
  entries_.push_back(std::move(entry));
  if (entries_.size() == kEntriesAtOnce || ranges_ > kRangesAtOnce) write_entries();
}

// While these are made into lines, the next ones are given.
void LedgerWriter::write_entries() {
  put_lines();
  in_work_.swap(entries_);
  entries_.clear();
  ranges_ = 0;
  made_ = std::async(std::launch::async, [this] {
    std::vector<std::string> lines;
    lines.reserve(in_work_.size());
    for (const LedgerEntry& entry : in_work_) lines.push_back(ledger_line(entry));
    return lines;
  });
}

void LedgerWriter::put_lines() {
  if (!made_.valid()) return;
  for (const std::string& line : made_.get()) put_line(line);
}

void LedgerWriter::end_entries() {
  if (!entries_.empty()) write_entries();
  put_lines();
}

void LedgerWriter::add_list(const StretchList& list) {
  end_entries();
  ++lists_;
  put_line(stretches_line(list));
}

void LedgerWriter::add_dead(const DeadEntry& dead) {
  end_entries();
  ++dead_;
  put_line(dead_line(dead));
}

void LedgerWriter::put_line(std::string_view line) {
  if (!pending_.empty() && pending_.size() + line.size() > kLedgerFrame) flush();
  pending_ += line;
}

void LedgerWriter::flush() {
  finish_frame();
  if (compressed_) {
    compressing_.swap(pending_);
    compressed_frame_ = std::async(
        std::launch::async, [this] { compressor_.compress(as_bytes(compressing_), frame_); });
  } else {
    file_.add(as_bytes(pending_), pending_.size());
  }
  pending_.clear();
}

void LedgerWriter::finish_frame() {
  if (!compressed_frame_.valid()) return;
  compressed_frame_.get();
  file_.add(frame_, compressing_.size());
}

void LedgerWriter::close(LedgerFoot foot) {
  end_entries();
  foot.lines = lines_;
  foot.lists = lists_;
  foot.dead = dead_;
  put_line(ledger_foot_line(foot));
  flush();
  finish_frame();
  file_.close();
}

LedgerReader::LedgerReader(std::unique_ptr<ByteSource> content, std::string what)
    : content_(std::move(content)), what_(std::move(what)) {
  std::string line;
  if (!next_line(line)) throw bad("empty");
  head_ = parse_ledger_head(line, what_);
}

Error LedgerReader::bad(const char* why) const {
  return Error(ErrorKind::kDamage, what_ + ": " + why);
}

bool LedgerReader::next_line(std::string& line) {
  for (;;) {
    std::size_t end = buffer_.find('\n', buffer_at_);
    if (end != std::string::npos) {
      line.assign(buffer_, buffer_at_, end - buffer_at_);
      buffer_at_ = end + 1;
      if (line.empty() || line.back() == '\r') throw bad("an empty line, or one that ends in CR");
      return true;
    }
    if (at_ == content_->size()) {
      if (buffer_at_ != buffer_.size()) throw bad("cut short");
      return false;
    }
    buffer_.erase(0, buffer_at_);
    buffer_at_ = 0;
    if (buffer_.size() > kLineLimit) throw bad("a line too long");
    std::size_t old = buffer_.size();
    std::size_t n = std::min<std::uint64_t>(kLedgerFrame, content_->size() - at_);
    buffer_.resize(old + n);
    content_->read_at(at_, {reinterpret_cast<std::uint8_t*>(buffer_.data()) + old, n});
    at_ += n;
  }
}

void LedgerReader::parse_next() {
  std::string text;
  if (!next_line(text)) throw bad("cut short: it has no foot");
  parse_ledger_line(text, what_, line_);
}

bool LedgerReader::next(LedgerEntry& entry) {
  if (ended_) return false;
  parse_next();
  if (line_.kind != LedgerLine::Kind::kEntry) {
    read_to_foot();
    ended_ = true;
    return false;
  }
  const std::string& path = line_.entry.entry.path;
  if (previous_ && compare_paths(*previous_, path) >= 0) throw bad("its entries are not in order");
  previous_ = path;
  ++lines_;
  entry = std::move(line_.entry);
  return true;
}

// The lists of an entry follow each other without a gap.
void LedgerReader::take_list(std::uint64_t& lists, std::optional<std::uint64_t>& entry,
                             std::uint64_t& end) {
  const StretchList& list = line_.list;
  bool goes_on = entry == list.tar_offset && list.from == end;
  bool begins = (!entry || *entry < list.tar_offset) && list.from == 0;
  if (!goes_on && !begins) throw bad("its lists of stretches are not in order");
  entry = list.tar_offset;
  end = list.end();
  ++lists;
  if (on_list_) on_list_(list);
}

void LedgerReader::read_to_foot() {
  std::uint64_t lists = 0, dead = 0, list_end = 0;
  std::optional<std::uint64_t> offset, listed;
  for (; line_.kind == LedgerLine::Kind::kStretches; parse_next()) {
    take_list(lists, listed, list_end);
  }
  for (; line_.kind == LedgerLine::Kind::kDead; parse_next()) {
    if (offset && line_.dead.tar_offset <= *offset) throw bad("its dead lines are not in order");
    offset = line_.dead.tar_offset;
    ++dead;
    if (on_dead_) on_dead_(line_.dead);
  }
  if (line_.kind != LedgerLine::Kind::kFoot) throw bad("its lines are not in order");
  if (line_.foot.lines != lines_ || line_.foot.lists != lists || line_.foot.dead != dead) {
    throw bad("its foot counts other lines than there are");
  }
  std::string text;
  if (next_line(text)) throw bad("a line behind its foot");
}

}  // namespace kestrum
