#include "kestrum/access/shelf_lease.h"

#include <fmt/format.h>

#include <chrono>
#include <optional>
#include <thread>

#include "kestrum/access/open_place.h"
#include "kestrum/base/clock.h"
#include "kestrum/base/error.h"
#include "kestrum/base/host_name.h"
#include "kestrum/base/json.h"
#include "kestrum/base/text.h"
#include "kestrum/base/units.h"
#include "kestrum/base/uuid.h"
#include "kestrum/place/address.h"
#include "kestrum/place/mounts.h"
#include "kestrum/remote/retry.h"
#include "kestrum/shelf/document.h"

namespace kestrum {
namespace {

constexpr std::uint64_t kLeaseLimit = 4096;  // bytes
constexpr Nanos kHurry = 5 * kSecond;        // for a server that is away
constexpr const char* kLeaseFormat = "kestrum-lease";

struct Lease {
  std::string machine, host, token;  // empty where nobody can say
};

// Nothing if there is none, where nobody is sure that there is one.
std::optional<std::string> lease_text(Place& place, bool sure = false) {
  if (!sure && !place.exists(kLeaseFile)) return std::nullopt;
  try {
    return read_small(place, kLeaseFile, kLeaseLimit);
  } catch (const Error& error) {
    if (error.kind() == ErrorKind::kPlace) throw;
    return "";  // half written, given back meanwhile, or no lease at all
  }
}

Lease parse_lease(const std::string& text) {
  try {
    Json json = parse_document(text, kLeaseFormat, kLeaseFile);
    Lease lease{json_string(json, "machine", kLeaseFile), json_string(json, "host", kLeaseFile),
                json_string(json, "token", kLeaseFile)};
    if (is_host_name(lease.host)) return lease;
  } catch (const Error&) {
  }
  return {};
}

Error is_held(const std::string& host) {
  return Error(ErrorKind::kBusy,
               (host.empty() ? "another PC" : printable(host)) + " writes to this shelf now",
               "nothing was changed there; two PCs that write to one shelf need one each: kestrum "
               "help places")
      .may_come();
}

void write_lease(Place& place, const std::string& text) {
  auto file = place.create(kLeaseFile);
  file->write(as_bytes(text));
  file->sync();
}

bool others_reach(const std::string& path) {
  return is_remote(path) || is_on_share(path);
}

}  // namespace

ShelfLease::~ShelfLease() {
  release();
}

std::string ShelfLease::text_now() {
  Json json = new_document(kLeaseFormat);
  json["machine"] = machine_;
  json["host"] = host_;
  json["token"] = token_;
  json["beat"] = ++beats_;
  return json.dump() + "\n";
}

void ShelfLease::take(const MachineState& machine, const OpenShelf& open, const StopRequest& stop,
                      Observer& observer) {
  // A connection of its own: what the run does on the other goes on meanwhile.
  if (others_reach(open.path)) {
    take(open_place(open.path), machine.machine_id(), host_name(), stop, observer);
  }
}

void ShelfLease::take(std::shared_ptr<Place> place, const std::string& machine,
                      const std::string& host, const StopRequest& stop, Observer& observer) {
  std::optional<std::string> found = lease_text(*place);
  std::string other = found ? parse_lease(*found).host : "";
  // This machine's own is of a run that was cut off: the job's lock says that none is under way.
  if (found && parse_lease(*found).machine != machine) {
    observer.note(fmt::format("{} did not end in order here, or writes here now: watching for {}",
                              other.empty() ? "another PC" : printable(other),
                              format_duration(times_.watch)));
    for (Nanos until = steady_now() + times_.watch; steady_now() < until;) {
      for (Nanos woken = steady_now() + times_.poll; steady_now() < woken;) {
        if (stop && stop()) throw Error(ErrorKind::kStopped, "stopped");
        std::this_thread::sleep_for(std::chrono::nanoseconds(std::min(times_.poll, kSecond / 5)));
      }
      auto now = lease_text(*place);
      if (!now) break;
      if (*now != *found) throw is_held(parse_lease(*now).host);
    }
  }
  std::lock_guard lock(mutex_);
  machine_ = machine;
  host_ = host;
  token_ = make_uuid();
  write_lease(*place, text_now());
  beaten_ = steady_now();
  auto now = lease_text(*place, true);
  if (!now || parse_lease(*now).token != token_) throw is_held(now ? parse_lease(*now).host : "");
  place_ = std::move(place);
  next_beat_ = steady_now() + times_.beat;
}

void ShelfLease::beat() {
  Nanos due = next_beat_;
  if (due == 0 || steady_now() < due) return;
  std::unique_lock lock(mutex_, std::try_to_lock);
  if (!lock || !place_ || next_beat_ != due) return;
  ShortPatience hurry(kHurry);
  try {
    // Who took it meanwhile keeps it: check() tells.
    auto now = lease_text(*place_, true);
    if (now && parse_lease(*now).token == token_) {
      write_lease(*place_, text_now());
      beaten_ = steady_now();
    }
  } catch (const std::exception&) {
  }
  next_beat_ = steady_now() + times_.beat;
}

void ShelfLease::check() {
  std::lock_guard lock(mutex_);
  if (!place_) return;
  auto now = lease_text(*place_, true);
  Lease lease = parse_lease(now.value_or(""));
  if (lease.token == token_) return;
  if (!lease.token.empty()) throw is_held(lease.host);
  throw Error(ErrorKind::kBusy, "this run's lease is not on the shelf any more",
              "another PC may write there; nothing more was changed; the next run goes on")
      .may_come();
}

void ShelfLease::release() {
  std::lock_guard lock(mutex_);
  next_beat_ = 0;
  if (!place_) return;
  ShortPatience hurry(kHurry);
  try {
    // Nobody has watched it for long enough to take it.
    bool sure = steady_now() - beaten_ < times_.watch / 2;
    std::optional<std::string> now;
    if (!sure) now = lease_text(*place_, true);
    if (sure || parse_lease(*now).token == token_) place_->remove_file(kLeaseFile);
  } catch (const std::exception&) {
  }
  place_.reset();
}

}  // namespace kestrum
