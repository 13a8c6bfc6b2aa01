#include "kestrum/machine/run_records.h"

#include <fcntl.h>
#include <sys/file.h>
#include <unistd.h>

#include <algorithm>
#include <charconv>

#include "kestrum/base/file.h"
#include "kestrum/base/units.h"

namespace kestrum {
namespace {

constexpr std::uint64_t kRecordLimit = 64 << 20;
constexpr std::size_t kRunsLookedAt = 10;
constexpr std::size_t kSetsLookedAt = 40;

}  // namespace

std::vector<std::string> RunRecords::runs() const {
  std::vector<std::string> runs;
  if (!is_folder(folder_)) return runs;
  for (const auto& name : list_folder(folder_)) {
    if (name.ends_with(".json")) runs.push_back(name.substr(0, name.size() - 5));
    if (!name.ends_with(".begun")) continue;
    std::string run = name.substr(0, name.size() - 6);
    if (was_cut_off(run)) runs.push_back(run);
  }
  std::sort(runs.begin(), runs.end());
  return runs;
}

bool RunRecords::was_cut_off(const std::string& run) const {
  Fd fd(::open(begun_path(run).c_str(), O_RDONLY | O_CLOEXEC));
  bool at_work = fd && ::flock(fd.get(), LOCK_SH | LOCK_NB) != 0;
  return fd && !at_work && !path_exists(record_path(run));
}

std::optional<Json> RunRecords::load(const std::string& run) const {
  try {
    std::string path = path_exists(record_path(run)) ? record_path(run) : begun_path(run);
    Json record = Json::parse(read_file(path, kRecordLimit), nullptr, false);
    if (record.is_object()) return record;
  } catch (const Error&) {
    // Removed in between, or not readable: as good as not there.
  }
  return std::nullopt;
}

std::optional<Json> RunRecords::newest(const std::function<bool(const Json&)>& pick) const {
  std::vector<std::string> all = runs();
  for (auto run = all.rbegin(); run != all.rend(); ++run) {
    auto record = load(*run);
    if (record && (!pick || pick(*record))) return record;
  }
  return std::nullopt;
}

void RunRecords::keep_newest(std::size_t keep) const {
  std::vector<std::string> all = runs();
  for (std::size_t i = 0; i + keep < all.size(); ++i) {
    ::unlink(record_path(all[i]).c_str());
    ::unlink(log_path(all[i]).c_str());
    ::unlink(begun_path(all[i]).c_str());
  }
}

double PastRuns::units(std::uint64_t bytes_copied, std::uint64_t files_copied,
                       std::uint64_t files_seen) {
  return static_cast<double>(bytes_copied) + 8192.0 * static_cast<double>(files_copied) +
         512.0 * static_cast<double>(files_seen) + 1e6;
}

PastRuns past_runs(const RunRecords& records) {
  PastRuns past;
  double seconds = 0, units = 0;
  std::uint64_t stored = 0;
  std::vector<std::string> all = records.runs();
  std::size_t looked_at = 0;
  for (auto run = all.rbegin(); run != all.rend() && looked_at < kRunsLookedAt; ++run) {
    auto record = records.load(*run);
    if (!record || record_text(*record, "set").empty()) continue;
    ++looked_at;
    past.copied += record_count(*record, "bytes", "copied");
    stored += record_count(*record, "bytes", "stored");
    if (!record->contains("seconds") || !(*record)["seconds"].is_number()) continue;
    seconds += (*record)["seconds"].get<double>();
    units += PastRuns::units(record_count(*record, "bytes", "copied"),
                             record_count(*record, "files", "copied"),
                             record_count(*record, "files", "seen"));
  }
  if (past.copied > 0) {
    past.ratio = static_cast<double>(stored) / static_cast<double>(past.copied);
  }
  if (units > 0) past.seconds_a_unit = seconds / units;
  return past;
}

std::vector<PastSet> past_sets(const RunRecords& records) {
  std::vector<PastSet> past;
  std::vector<std::string> all = records.runs();
  for (auto run = all.rbegin(); run != all.rend() && past.size() < kSetsLookedAt; ++run) {
    auto record = records.load(*run);
    if (!record) continue;
    auto id = SetId::parse(record_text(*record, "set"));
    if (!id) continue;
    past.push_back({record_time(*record, "started"),
                    parse_kind(record_text(*record, "kind")).value_or(SetKind::kFull), id->link,
                    record_count(*record, "bytes", "seen"),
                    record_count(*record, "bytes", "copied"),
                    record_count(*record, "bytes", "stored")});
  }
  std::reverse(past.begin(), past.end());
  return past;
}

unsigned run_number(const std::string& run) {
  unsigned number = 0;
  std::from_chars(run.data(), run.data() + run.size(), number);
  return number;
}

std::optional<std::uint64_t> free_bytes_in(const Json& record) {
  auto shelf = record.find("shelf");
  bool told = shelf != record.end() && shelf->is_object() && shelf->contains("free_bytes") &&
              !(*shelf)["free_bytes"].is_null();
  if (!told) return std::nullopt;
  return record_count(record, "shelf", "free_bytes");
}

std::uint64_t record_count(const Json& record, const char* group, const char* key) {
  auto outer = record.find(group);
  if (outer == record.end() || !outer->is_object()) return 0;
  auto inner = outer->find(key);
  return inner != outer->end() && inner->is_number_unsigned() ? inner->get<std::uint64_t>() : 0;
}

std::vector<AwayFolder> last_away(const RunRecords& records) {
  auto record = records.newest([](const Json& run) {
    auto list = run.find("away");
    return list != run.end() && list->is_array();
  });
  std::vector<AwayFolder> away;
  if (!record) return away;
  for (const Json& item : (*record)["away"]) {
    AwayFolder folder;
    try {
      if (!item.is_object() || !get_name(item, "path", folder.path, "run record")) continue;
      bool found = item.contains("may_be_at") && !item["may_be_at"].is_null();
      if (found) get_name(item, "may_be_at", folder.may_be_at, "run record");
    } catch (const Error&) {
      continue;
    }
    folder.since = record_time(item, "since");
    away.push_back(std::move(folder));
  }
  return away;
}

std::string record_text(const Json& record, const char* key) {
  auto it = record.find(key);
  return it != record.end() && it->is_string() ? it->get<std::string>() : "";
}

Nanos record_time(const Json& record, const char* key) {
  return parse_rfc3339(record_text(record, key)).value_or(0);
}

}  // namespace kestrum
