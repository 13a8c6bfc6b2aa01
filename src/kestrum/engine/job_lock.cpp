#include "kestrum/engine/job_lock.h"

#include <fcntl.h>
#include <fmt/format.h>
#include <sys/file.h>
#include <unistd.h>

#include <cerrno>

#include "kestrum/base/json.h"
#include "kestrum/base/text.h"

namespace kestrum {

JobLock::JobLock(const MachineState& state, const std::string& job, const std::string& activity)
    : path_(state.lock_path(job)) {
  make_folders(parent_of(path_));
  fd_.reset(::open(path_.c_str(), O_RDWR | O_CREAT | O_CLOEXEC, 0600));
  if (!fd_) throw system_error(errno, path_);
  if (::flock(fd_.get(), LOCK_EX | LOCK_NB) != 0) {
    if (errno != EWOULDBLOCK) throw system_error(errno, path_);
    std::string who = "is busy";
    Json json = Json::parse(read_file(path_), nullptr, false);
    if (json.is_object()) {
      who = fmt::format("is busy: {} since {} (process {})", json.value("activity", "running"),
                        format_local(json.value("since", Nanos{0})), json.value("process", 0));
      std::string far = json.value("progress", "");
      if (!far.empty()) who += ", " + far;
    }
    throw Error(ErrorKind::kBusy, job + " " + who, "wait for it to end").about_job(job);
  }
  Json json = {{"activity", activity}, {"since", real_now()}, {"process", ::getpid()}};
  head_ = json.dump();
  head_.pop_back();
  write("");
}

JobLock::~JobLock() {
  // The lock ends with the descriptor; the file stays, or a waiting process would lock a dead one.
  if (::ftruncate(fd_.get(), 0) != 0) return;
}

void JobLock::progress(const std::string& text) {
  Nanos now = real_now();
  if (now - written_ < kSecond) return;
  written_ = now;
  write(text);
}

void JobLock::write(const std::string& text) {
  std::string content = head_ + ",\"progress\":" + Json(text).dump() + "}";
  content.resize(std::max<std::size_t>(content.size(), 512), ' ');
  if (::pwrite(fd_.get(), content.data(), content.size(), 0) < 0) throw system_error(errno, path_);
}

}  // namespace kestrum
