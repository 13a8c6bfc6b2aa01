#include "kestrum/machine/job_lock.h"

#include <fcntl.h>
#include <fmt/format.h>
#include <sys/file.h>
#include <unistd.h>

#include <cerrno>

#include "kestrum/base/json.h"
#include "kestrum/base/units.h"

namespace kestrum {

namespace {

// Whoever only looks whether a job runs holds the lock for a moment.
constexpr int kTries = 10;
constexpr useconds_t kMoment = 10'000;  // microseconds
constexpr Nanos kAskAgain = kSecond / 5;
constexpr useconds_t kPausedFor = 50'000;  // microseconds between looks

std::string stop_path(const MachineState& state, const std::string& job) {
  return state.folder() + "/stop/" + job;
}

std::string pause_path(const MachineState& state, const std::string& job) {
  return state.folder() + "/paused/" + job;
}

JobLock::Holder read_holder(const std::string& path) {
  JobLock::Holder holder;
  Json json = Json::parse(read_file(path), nullptr, false);
  auto text = [&](const char* key) {
    return json.contains(key) && json[key].is_string() ? json[key].get<std::string>() : "";
  };
  auto number = [&](const char* key) {
    return json.contains(key) && json[key].is_number_integer() ? json[key].get<std::int64_t>() : 0;
  };
  if (!json.is_object()) return holder;
  holder.activity = text("activity");
  holder.progress = text("progress");
  holder.since = number("since");
  holder.process = static_cast<int>(number("process"));
  return holder;
}

}  // namespace

JobLock::JobLock(const MachineState& state, const std::string& job, const std::string& activity)
    : path_(state.lock_path(job)),
      stop_path_(stop_path(state, job)),
      pause_path_(pause_path(state, job)) {
  make_folders(parent_of(path_));
  fd_.reset(::open(path_.c_str(), O_RDWR | O_CREAT | O_CLOEXEC, 0600));
  if (!fd_) throw system_error(errno, path_);
  for (int attempt = 1; ::flock(fd_.get(), LOCK_EX | LOCK_NB) != 0; ++attempt) {
    if (errno != EWOULDBLOCK) throw system_error(errno, path_);
    if (attempt < kTries) {
      ::usleep(kMoment);
      continue;
    }
    Holder other = read_holder(path_);
    std::string who = "is busy";
    if (other.process != 0) {
      who = fmt::format("is busy: {} since {} (process {})", other.activity,
                        format_local(other.since), other.process);
      if (!other.progress.empty()) who += ", " + other.progress;
    }
    if (path_exists(pause_path_)) who += ", paused";
    throw Error(ErrorKind::kBusy, job + " " + who, "wait for it to end, or kestrum stop " + job)
        .about_job(job);
  }
  ::unlink(stop_path_.c_str());  // meant for an earlier run
  ::unlink(pause_path_.c_str());
  Json json = {{"activity", activity}, {"since", real_now()}, {"process", ::getpid()}};
  head_ = json.dump();
  head_.pop_back();
  write("");
}

bool JobLock::asked_to_stop() {
  Nanos now = steady_now();
  if (!stop_ && now - asked_at_ > kAskAgain) {
    asked_at_ = now;
    stop_ = path_exists(stop_path_);
    paused_ = path_exists(pause_path_);
  }
  return stop_;
}

void JobLock::wait_while_paused(const std::function<bool()>& stop) {
  while (!asked_to_stop() && paused_ && !(stop && stop())) ::usleep(kPausedFor);
}

void JobLock::pause(const MachineState& state, const std::string& job) {
  make_folders(state.folder() + "/paused");
  write_file(pause_path(state, job), "");
}

void JobLock::go_on(const MachineState& state, const std::string& job) {
  ::unlink(pause_path(state, job).c_str());
}

std::optional<JobLock::Holder> JobLock::holder(const MachineState& state, const std::string& job) {
  std::string path = state.lock_path(job);
  Fd fd(::open(path.c_str(), O_RDWR | O_CLOEXEC));
  if (!fd || ::flock(fd.get(), LOCK_SH | LOCK_NB) == 0) return std::nullopt;
  Holder holder = read_holder(path);
  holder.paused = path_exists(pause_path(state, job));
  return holder;
}

void JobLock::ask_to_stop(const MachineState& state, const std::string& job) {
  make_folders(state.folder() + "/stop");
  write_file(stop_path(state, job), "");
}

JobLock::~JobLock() {
  // The lock ends with the descriptor; the file stays, or a waiting process would lock a dead one.
  ::unlink(stop_path_.c_str());
  ::unlink(pause_path_.c_str());
  if (::ftruncate(fd_.get(), 0) != 0) return;
}

void JobLock::progress(const std::function<std::string()>& text) {
  Nanos now = steady_now();
  if (now - written_ < kSecond) return;
  written_ = now;
  write(text());
}

void JobLock::write(const std::string& text) {
  std::string content = head_ + ",\"progress\":" + Json(text).dump() + "}";
  content.resize(std::max<std::size_t>(content.size(), 512), ' ');
  if (::pwrite(fd_.get(), content.data(), content.size(), 0) < 0) throw system_error(errno, path_);
}

}  // namespace kestrum
