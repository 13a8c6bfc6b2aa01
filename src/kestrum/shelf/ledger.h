// A set's ledger: JSON Lines. A head, a line for each path of the set in path order, the stretches
// of large content, the tar entries that do not count, and a foot that says how many there are of
// each.
#pragma once

#include <functional>
#include <future>
#include <memory>
#include <optional>
#include <string>
#include <vector>

#include "kestrum/archive/packed_file.h"
#include "kestrum/base/error.h"
#include "kestrum/shelf/ledger_line.h"

namespace kestrum {

class LedgerWriter {
 public:
  LedgerWriter(Place& place, const std::string& path, const Packing& packing,
               const LedgerHead& head);
  void add(LedgerEntry entry);             // in path order
  void add_list(const StretchList& list);  // behind all entries, in order of entry and place in it
  void add_dead(const DeadEntry& dead);    // behind those, in order of offset
  // Writes the foot, but for the numbers of lines, which are counted here.
  void close(LedgerFoot foot);
  const PackedFileWriter& file() const { return file_; }
  std::uint64_t lines() const { return lines_; }  // without head, dead lines and foot

 private:
  void write_entries();
  void put_lines();
  void end_entries();
  void put_line(std::string_view line);
  void flush();
  void finish_frame();
  PackedFileWriter file_;
  bool compressed_;
  FrameCompressor compressor_;
  std::string pending_;
  std::uint64_t lines_ = 0, lists_ = 0, dead_ = 0;
  // A frame is compressed while the lines of the next are made.
  std::string compressing_;
  Bytes frame_;
  std::vector<LedgerEntry> entries_, in_work_;
  std::size_t ranges_ = 0;  // of the entries
  // Last: they are waited for before what they work on goes.
  std::future<void> compressed_frame_;
  std::future<std::vector<std::string>> made_;  // from what is in work
};

class LedgerReader {
 public:
  // `content` is the ledger's text.
  LedgerReader(std::unique_ptr<ByteSource> content, std::string what);

  const LedgerHead& head() const { return head_; }
  // The next entry; false at the end, when the dead lines and the foot have been read as well.
  // Throws Error(kDamage) for what is malformed, also if the order or a number of lines is wrong,
  // and Error::newer() for what a later version wrote.
  bool next(LedgerEntry& entry);
  // Called for each list of stretches before next() returns false.
  void on_list(std::function<void(const StretchList&)> visit) { on_list_ = std::move(visit); }
  // Called for each dead line before next() returns false.
  void on_dead(std::function<void(const DeadEntry&)> visit) { on_dead_ = std::move(visit); }
  // After next() returned false.
  const LedgerFoot& foot() const { return line_.foot; }

 private:
  bool next_line(std::string& line);
  void parse_next();
  void read_to_foot();
  void take_list(std::uint64_t& lists, std::optional<std::uint64_t>& entry, std::uint64_t& end);
  Error bad(const char* why) const;
  std::unique_ptr<ByteSource> content_;
  std::string what_;
  LedgerHead head_;
  std::uint64_t at_ = 0;
  std::string buffer_;
  std::size_t buffer_at_ = 0;
  LedgerLine line_;
  std::function<void(const StretchList&)> on_list_;
  std::function<void(const DeadEntry&)> on_dead_;
  std::uint64_t lines_ = 0;
  std::optional<std::string> previous_;
  bool ended_ = false;
};

}  // namespace kestrum
