#include "progress_line.h"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <cstdio>
#include <cstdlib>

#include "kestrum/base/text.h"
#include "kestrum/base/units.h"
#include "screen.h"

namespace kestrum::cli {
namespace {

constexpr Nanos kLiveInterval = kSecond / 10;
// How much a new estimate of the time left counts beside those before: it does not jump about.
constexpr double kFresh = 0.1;
constexpr std::uint64_t kLargeFile = 64'000'000;  // bytes; of one the line tells how far it is
constexpr Nanos kPlainInterval = 5 * kSecond;

}  // namespace

// A terminal that cannot go back to the beginning of a line is written to like a file.
ProgressLine::ProgressLine(bool quiet) : quiet_(quiet) {
  terminal_ = message_screen().terminal && !message_screen().dumb;
}

std::string ProgressLine::text(const Progress& p, Nanos elapsed) {
  double seconds = std::max(0.001, static_cast<double>(elapsed) / kSecond);
  double rate = static_cast<double>(p.bytes_done) / seconds;
  std::string out = p.phase;
  bool totals = p.bytes_total > 0;
  if (totals) {
    double done =
        std::min(1.0, static_cast<double>(p.bytes_done) / static_cast<double>(p.bytes_total));
    share_ = std::max(share_, done);  // files that grow meanwhile take nothing back
    out += fmt::format("  {:3.0f} %", std::floor(share_ * 100));
    if (p.files_total > 0) {
      out +=
          fmt::format("  {} of {} files", format_count(p.files_done), format_count(p.files_total));
    }
    out += fmt::format("  {} of {}", format_size(p.bytes_done), format_size(p.bytes_total));
  } else if (p.files_total > 0) {
    out += fmt::format("  {} of {} files  {}", format_count(p.files_done),
                       format_count(p.files_total), format_size(p.bytes_done));
  } else if (p.files_done > 0 || p.bytes_done > 0) {
    out += fmt::format("  {} files  {}", format_count(p.files_done), format_size(p.bytes_done));
  }
  if (p.bytes_done > 0 && elapsed > kSecond) {
    out += fmt::format("  {}/s", format_size(static_cast<std::uint64_t>(rate)));
    if (totals && p.bytes_total > p.bytes_done) {
      double left = static_cast<double>(p.bytes_total - p.bytes_done) / rate;
      double before = left_ - static_cast<double>(elapsed - left_at_) / kSecond;
      left_ = left_at_ == 0 ? left : std::max(0.0, kFresh * left + (1 - kFresh) * before);
      left_at_ = elapsed;
      out += fmt::format("  {} left", format_duration(static_cast<Nanos>(left_ * kSecond)));
    }
  }
  return out;
}

void ProgressLine::show(const Progress& progress) {
  if (quiet_) return;
  Nanos now = steady_now();
  if (phase_ != progress.phase) {
    phase_ = progress.phase;
    started_ = now;
    share_ = left_ = 0;
    left_at_ = 0;
    last_ = terminal_ ? 0 : now;
  }
  if (now - last_ < (terminal_ ? kLiveInterval : kPlainInterval)) return;
  last_ = now;
  std::string line = text(progress, now - started_);
  if (!terminal_) {
    put_message(wrapped(line, message_screen().columns) + "\n");
    return;
  }
  std::size_t columns = message_screen().columns - 1;
  line = shortened(line, columns);
  if (!progress.current.empty() && display_width(line) + 12 < columns) {
    std::string current = printable(progress.current), how_far;
    if (progress.current_total > kLargeFile) {
      how_far = fmt::format("  {:.0f} % of {}",
                            std::floor(100.0 * static_cast<double>(progress.current_done) /
                                       static_cast<double>(progress.current_total)),
                            format_size(progress.current_total));
    }
    std::size_t room = columns - display_width(line) - 2;
    if (room < how_far.size() + kLeastName) how_far.clear();
    line += "  " + shortened(current, room - how_far.size()) + how_far;
  }
  put_message("\r\x1b[K" + line);
  shown_ = true;
}

void ProgressLine::clear() {
  if (!shown_) return;
  put_message("\r\x1b[K");
  shown_ = false;
}

}  // namespace kestrum::cli
