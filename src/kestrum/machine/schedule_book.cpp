#include "kestrum/machine/schedule_book.h"

#include <fcntl.h>
#include <sys/file.h>
#include <unistd.h>

#include <cstring>

#include "kestrum/base/file.h"
#include "kestrum/base/json.h"
#include "kestrum/crypto/digest.h"
#include "kestrum/shelf/document.h"

namespace kestrum {
namespace {

constexpr const char* kBookFormat = "kestrum-schedule";

std::string to_json(const ScheduleState& state) {
  Json json = new_document(kBookFormat);
  json["settled"] = state.settled;
  json["when"] = state.when;
  json["pending"] = nullptr;
  if (state.pending) {
    json["pending"] = {{"first", state.pending->first},
                       {"last", state.pending->last},
                       {"count", state.pending->count}};
  }
  json["waiting_since"] = state.waiting_since;
  json["waiting_for"] = state.waiting_for;
  json["failures"] = state.failures;
  json["last_attempt"] = state.last_attempt;
  json["paused"] = state.paused;
  json["paused_until"] = state.paused_until;
  json["ahead"] = state.ahead;
  return json.dump(2, ' ', false, Json::error_handler_t::replace) + "\n";
}

ScheduleState from_json(const std::string& text, const std::string& what) {
  Json json = parse_document(text, kBookFormat, what);
  ScheduleState state;
  state.settled = json_int(json, "settled", what);
  state.when = json_string(json, "when", what);
  if (const Json& pending = json_member(json, "pending", what); !pending.is_null()) {
    state.pending = PendingTime{json_int(pending, "first", what), json_int(pending, "last", what),
                                json_uint(pending, "count", what)};
  }
  state.waiting_since = json_int(json, "waiting_since", what);
  state.waiting_for = json_string(json, "waiting_for", what);
  state.failures = static_cast<unsigned>(json_uint(json, "failures", what));
  state.last_attempt = json_int(json, "last_attempt", what);
  state.paused = json_member(json, "paused", what) == true;
  state.paused_until = json_int(json, "paused_until", what);
  if (json.contains("ahead")) state.ahead = json_int(json, "ahead", what);
  return state;
}

}  // namespace

ScheduleState ScheduleBook::load(const std::string& job) const {
  try {
    if (!path_exists(path(job))) return {};
    return from_json(read_file(path(job)), path(job));
  } catch (const Error&) {
    return {};
  }
}

ScheduleState ScheduleBook::update(const std::string& job,
                                   const std::function<void(ScheduleState&)>& change) const {
  make_folders(folder_);
  std::string lock_path = folder_ + "/lock";
  Fd lock(::open(lock_path.c_str(), O_RDWR | O_CREAT | O_CLOEXEC, 0600));
  if (!lock || ::flock(lock.get(), LOCK_EX) != 0) throw system_error(errno, lock_path);
  ScheduleState state = load(job);
  std::string before = to_json(state);
  change(state);
  std::string after = to_json(state);
  if (after != before) write_file(path(job), after);
  return state;
}

ScheduleBook ScheduleBook::of_checks(const MachineState& machine) {
  return ScheduleBook(machine.folder() + "/schedule/checks");
}

void ScheduleBook::rename(const std::string& job, const std::string& new_name) const {
  ScheduleBook checks(folder_ + "/checks");
  for (const char* check : kCheckNames) {
    ::rename(checks.path(check_key(job, check)).c_str(),
             checks.path(check_key(new_name, check)).c_str());
  }
  if (path_exists(path(job)) && ::rename(path(job).c_str(), path(new_name).c_str()) != 0) {
    throw system_error(errno, path(job));
  }
}

void ScheduleBook::remove(const std::string& job) const {
  ScheduleBook checks(folder_ + "/checks");
  for (const char* check : kCheckNames) ::unlink(checks.path(check_key(job, check)).c_str());
  ::unlink(path(job).c_str());
}

std::string phrases_text(const std::vector<Phrase>& phrases) {
  std::string text;
  for (const Phrase& phrase : phrases) text += (text.empty() ? "" : "\n") + phrase.text();
  return text;
}

std::string phrases_text(const Job& job) {
  return phrases_text(job.when);
}

Timetable timetable_of(const Job& job, const MachineState& machine, const Zone& zone) {
  Nanos offset = 0;
  if (job.spread >= kMinute) {
    std::string seed = machine.machine_id() + "/" + job.name;
    Digest digest = digest_of(as_bytes(seed));
    std::uint64_t number = 0;
    std::memcpy(&number, digest.data(), sizeof number);
    auto minutes = static_cast<std::uint64_t>(job.spread / kMinute);
    offset = static_cast<Nanos>(number % (minutes + 1)) * kMinute;
  }
  return Timetable(job.when, zone, offset);
}

}  // namespace kestrum
