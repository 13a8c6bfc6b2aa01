// A job: which folders, where to, when, what kind of chain, how long to keep.
#pragma once

#include <map>
#include <optional>
#include <string>
#include <vector>

#include "kestrum/archive/frames.h"
#include "kestrum/archive/set_writer.h"
#include "kestrum/chain/next_kind.h"
#include "kestrum/chain/retention.h"
#include "kestrum/crypto/age_keys.h"
#include "kestrum/job/job_keys.h"
#include "kestrum/schedule/phrase.h"
#include "kestrum/select/selection.h"

namespace kestrum {

// What may be removed without anybody being asked.
enum class WhenFull { kStop, kAsk, kPrune, kPruneDeeper };
// Whether runs remove by themselves what no promise holds.
constexpr bool prunes_by_itself(WhenFull when) {
  return when == WhenFull::kPrune || when == WhenFull::kPruneDeeper;
}

// Whether files are copied from a snapshot: where the filesystem makes them, never, or never
// without.
enum class SnapshotUse { kAuto, kOff, kRequire };

struct Job {
  std::string name;
  std::string title;

  std::vector<std::string> folders;  // absolute; may hold patterns
  SelectionRules rules;
  SnapshotUse snapshot = SnapshotUse::kAuto;
  std::uint64_t stretches_above = 8'000'000;  // bytes; 0: no file is stored by what changed in it

  std::vector<std::string> places;  // absolute folders
  std::uint64_t part_size = 1'000'000'000;

  SetKind follows_full = SetKind::kIncremental;
  NewFullRule new_full;

  CompressionLevel level = CompressionLevel::kNormal;

  bool encrypted = true;
  std::vector<Recipient> also_for;
  std::string passphrase_from;

  KeepPolicy keep;
  std::optional<std::uint64_t> at_most;     // bytes of the shelf
  std::optional<std::uint64_t> leave_free;  // bytes of the disk, or
  unsigned leave_free_percent = 5;          // of it, if no bytes are given
  WhenFull when_full = WhenFull::kPrune;

  std::vector<Phrase> when;  // empty: by hand
  bool skip_missed = false;
  Nanos spread = 0;
  bool wait_on_battery = false;

  ReadBack verify = ReadBack::kParts;
  bool power_off = false;

  struct Command {
    std::string text;  // for the shell; empty: none
    Nanos limit = 10 * kMinute;
  };
  Command before_run, after_run;

  // By themselves, besides the runs.
  struct Checks {
    std::vector<Phrase> verify_when, drill_when;  // empty: by hand
    unsigned each_time = 100;                     // percent of the shelf
    // Without one for so long it is to be heeded; 0: never.
    Nanos nag_verify = 90 * kDay, nag_drill = 0, nag_try = 0;
  };
  Checks checks;
  // Of the shelf, elsewhere: by themselves at these times.
  struct Copies {
    std::vector<std::string> to;  // absolute folders
    std::vector<Phrase> when;     // empty: by hand
  };
  Copies copies;
  Nanos rotation = 0;  // a disk that is not seen for longer is told; 0: none is missed

  bool low_priority = true;
  std::optional<std::uint64_t> rate_limit;  // bytes a second
  enum class LogDetail { kShort, kNormal, kEveryFile };
  LogDetail log_detail = LogDetail::kNormal;
  std::size_t keep_records = 200;
  std::vector<std::string> mail_to;  // addresses
  std::string mail_when = "heed";    // "always", "heed", "trouble", "never"
  unsigned suspect_percent = 40;     // share of known files that may change or vanish

  // Every key of the file format by "section.key", as given or by default. Keys whose feature
  // reads nothing else from a job are kept only here.
  std::map<std::string, KeyValue> values;
};

}  // namespace kestrum
