#include "kestrum/inspect/past_runs.h"

namespace kestrum {
namespace {

constexpr std::size_t kWarningsTold = 50;

Warning warning_in(const Json& item) {
  Warning warning;
  if (!item.is_object()) return warning;
  try {
    get_name(item, "path", warning.path, "run record");
  } catch (const Error&) {
    // Without a path then.
  }
  warning.reason = record_text(item, "reason");
  return warning;
}

PastRun run_in(const std::string& id, const Json& record) {
  PastRun run;
  run.run = id;
  run.started = record_time(record, "started");
  if (auto it = record.find("seconds"); it != record.end() && it->is_number()) {
    run.seconds = it->get<double>();
  }
  run.outcome = record_text(record, "outcome");
  run.reason = record_text(record, "reason");
  run.trigger = record_text(record, "trigger");
  run.set = SetId::parse(record_text(record, "set"));
  run.kind = parse_kind(record_text(record, "kind"));
  run.files_copied = record_count(record, "files", "copied");
  run.copied = record_count(record, "bytes", "copied");
  run.stored = record_count(record, "bytes", "stored");
  run.seen = record_count(record, "bytes", "seen");
  run.shelf_stored = record_count(record, "shelf", "stored_bytes");
  run.shelf_free = free_bytes_in(record);
  if (auto it = record.find("shelf"); it != record.end() && it->is_object()) {
    try {
      get_name(*it, "path", run.shelf, "run record");
    } catch (const Error&) {
      run.shelf.clear();
    }
  }
  if (auto it = record.find("warnings"); it != record.end() && it->is_array()) {
    run.warning_count = it->size();
    for (const Json& item : *it) {
      if (run.warnings.size() == kWarningsTold) break;
      run.warnings.push_back(warning_in(item));
    }
  }
  if (auto it = record.find("pruned"); it != record.end() && it->is_array()) {
    for (const Json& item : *it) {
      auto set = item.is_string() ? SetId::parse(item.get<std::string>()) : std::nullopt;
      if (set) run.pruned.push_back(*set);
    }
  }
  return run;
}

}  // namespace

std::vector<PastRun> past_runs_of(const RunRecords& records) {
  std::vector<PastRun> runs;
  for (const std::string& id : records.runs()) {
    if (auto record = records.load(id)) runs.push_back(run_in(id, *record));
  }
  return runs;
}

}  // namespace kestrum
