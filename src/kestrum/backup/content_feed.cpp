#include "kestrum/backup/content_feed.h"

#include <algorithm>
#include <cerrno>

#include "kestrum/base/error.h"
#include "kestrum/select/source_file.h"

namespace kestrum {
namespace {

constexpr std::size_t kReadAtOnce = 1 << 20;

}  // namespace

ContentFeed::ContentFeed(SetWriter& writer, RunMessages& messages, const StoreCounts& counts,
                         StopRequest stop)
    : writer_(writer), messages_(messages), counts_(counts), stop_(std::move(stop)) {
  progress_.phase = "copying";
}

ContentFeed::Read ContentFeed::read(Fd& fd, const Reading& reading, Digester& digester) {
  const Entry& e = reading.entry;
  std::uint64_t at = reading.from;
  Read read;
  for (const DataRun& run : reading.data) {
    std::uint64_t end = run.offset + run.length;
    if (end <= at && run.length > 0) continue;
    if (run.offset > at) {
      digester.update_zeros(run.offset - at, [this] { check_stop(); });
      at = run.offset;
    }
    while (at < end) {
      check_stop();
      std::span<std::uint8_t> room = reading.store ? writer_.space() : buffer().first(kReadAtOnce);
      room = room.first(std::min<std::uint64_t>({room.size(), end - at, kReadAtOnce}));
      ssize_t n = read.complete ? read_some(fd.get(), at, room) : 0;
      if (n < 0) read.error = errno;
      if (n <= 0) {  // the header has promised so many bytes: zeros stand in, and it is not used
        read.complete = false;
        std::fill(room.begin(), room.end(), 0);
        n = static_cast<ssize_t>(room.size());
      }
      auto got = static_cast<std::size_t>(n);
      digester.update(room.first(got));
      if (reading.list != nullptr) reading.list->add(at, room.first(got));
      if (reading.store) {
        writer_.advance(got);
        if (writer_.at_block_end()) writer_.note_content(digester.finish());
      }
      at += got;
      progress_.current_done = at;
      progress_.current_total = e.size;
      report(e.path, reading.store ? e.size - at : 0);
    }
  }
  digester.update_zeros(e.size - at, [this] { check_stop(); });
  progress_.current_total = 0;
  return read;
}

void ContentFeed::report(const std::string& path, std::uint64_t left) {
  progress_.files_done = counts_.files.seen;
  progress_.bytes_done = counts_.bytes.seen - std::min(counts_.bytes.seen, left);
  progress_.current.assign("/").append(path);
  messages_.observer().progress(progress_);
}

void ContentFeed::check_stop() const {
  if (stop_ && stop_()) throw Error(ErrorKind::kStopped, "stopped");
}

}  // namespace kestrum
