// The keys of a job file with their defaults: the one table that parsing, showing and writing use.
#include "kestrum/job/job_keys.h"

namespace kestrum {

const std::vector<JobKey>& job_keys() {
  using List = std::vector<std::string>;
  using Text = std::string;
  static const std::vector<JobKey> kKeys = {
      {"", "format", std::int64_t{1}, "version of this file's format"},
      {"", "title", Text(), "words for people"},
      {"source", "folders", List(), "what is copied; may hold patterns"},
      {"source", "leave_out", List(), "patterns of what is not"},
      {"source", "leave_out_litter", true, "caches, trash, temporary files, editor leftovers"},
      {"source", "only", List(), "file categories; empty: every file"},
      {"source", "bigger_than", Text("off"), "only files bigger than this"},
      {"source", "smaller_than", Text("off"), "only files smaller than this"},
      {"source", "changed_within", Text("off"), "only files changed within this time"},
      {"source", "other_filesystems", false, "cross into other mounted disks"},
      {"source", "stretches_above", Text("8 MB"),
       "larger files are stored by what changed in them"},
      {"source", "snapshot", Text("auto"), "copy from a snapshot: auto, off or require"},
      {"destination", "places", List(), "folders on the backup disks"},
      {"destination", "part_size", Text("1 GB"), "files of a set are at most this big"},
      {"destination", "when_full", Text("prune"),
       "a full disk: prune, stop, ask (another disk) or prune deeper"},
      {"chain", "kind", Text("incremental"), "what follows a full set"},
      {"chain", "new_full", Text("after 13 sets"), "when the next full set is due"},
      {"schedule", "when", List(), "phrases; empty: by hand"},
      {"schedule", "if_missed", Text("next chance"), "what to do about a missed time"},
      {"schedule", "spread", Text("0 minutes"), "random offset of the start"},
      {"schedule", "on_battery", Text("run"), "run or wait"},
      {"keep", "for", Text("14 days"), "promise: younger restore points stay"},
      {"keep", "chains", std::int64_t{1}, "promise: so many complete chains stay"},
      {"keep", "thin", List(), "promise: thinned long-term restore points"},
      {"keep", "at_most", Text("off"), "wish: size of the shelf"},
      {"keep", "leave_free", Text("5%"), "wish: room that stays free on the disk"},
      {"keep", "hold", Text(), "a reason: nothing is removed by anybody until it is empty"},
      {"compression", "level", Text("normal"), "fast, normal, small or off"},
      {"protection", "mode", Text("passphrase"), "passphrase (encrypted) or none"},
      {"protection", "also_for", List(), "age recipients that can open the shelf too"},
      {"protection", "passphrase_from", Text(), "for unattended work that reads sets back"},
      {"before_run", "command", Text(), "a failure stops the run"},
      {"before_run", "time_limit", Text("10 minutes"), "for the command"},
      {"after_run", "verify", Text("parts"),
       "read back after writing: parts, sizes, contents or off"},
      {"after_run", "command", Text(), "always, with the outcome in its environment"},
      {"after_run", "time_limit", Text("10 minutes"), "for the command"},
      {"after_run", "then", Text("nothing"), "nothing or power off"},
      {"checks", "verify_when", Text(),
       "a phrase: parts and signatures are held against the seals"},
      {"checks", "each_time", Text("100%"), "how much of the shelf each time"},
      {"checks", "drill_when", Text(), "a phrase; needs protection.passphrase_from"},
      {"checks", "nag_verify", Text("90 days"), "without one for so long: heed"},
      {"checks", "nag_drill", Text("off"), "without one for so long: heed"},
      {"checks", "nag_try", Text("off"), "without the passphrase being used for so long: heed"},
      {"rotation", "expect", Text(), "\"every 7 days\": a disk not seen for longer is told"},
      {"copies", "to", List(), "places that hold a copy of the shelf"},
      {"copies", "when", List(), "phrases; when copies are brought up to date by themselves"},
      {"effort", "priority", Text("low"), "CPU and disk priority: low or normal"},
      {"effort", "limit", Text("off"), "bytes a second"},
      {"report", "detail", Text("normal"),
       "of logs: short (warnings and sums), normal or every file"},
      {"report", "keep", std::int64_t{200}, "run logs"},
      {"report", "mail_to", List(), "addresses that are told how the job stands"},
      {"report", "mail_when", Text("heed"), "always, heed, trouble or never"},
      {"report", "suspect_above", Text("40%"), "share of files changed or vanished"},
  };
  return kKeys;
}

}  // namespace kestrum
