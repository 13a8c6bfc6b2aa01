#include "kestrum/system/power.h"

#include <fcntl.h>
#include <sys/resource.h>
#include <sys/syscall.h>
#include <systemd/sd-bus.h>
#include <unistd.h>

#include <algorithm>
#include <charconv>
#include <mutex>
#include <optional>
#include <thread>

#include "kestrum/base/clock.h"
#include "kestrum/base/error.h"
#include "kestrum/base/file.h"
#include "kestrum/base/text.h"

namespace kestrum {
namespace {

constexpr int kNice = 10;
// linux/ioprio.h: the idle class, for this thread
constexpr int kIoprioWhoProcess = 1, kIoprioClassIdle = 3 << 13;
// org.freedesktop.login1(5)
constexpr const char *kLoginManager = "org.freedesktop.login1",
                     *kLoginPath = "/org/freedesktop/login1",
                     *kLoginInterface = "org.freedesktop.login1.Manager";
constexpr std::uint64_t kBusTimeout = 2'000'000;  // microseconds

std::string attribute(const std::string& path) {
  try {
    return std::string(trimmed(read_file(path, 4096)));
  } catch (const Error&) {
    return "";
  }
}

std::mutex session_lock;
int session_users = 0;         // guarded by session_lock
int session_nice_was = kNice;  // guarded by session_lock; kNice: it was not changed

// The nice value of this process's session: "/autogroup-12 nice 0".
std::optional<int> session_nice() {
  std::string text = attribute("/proc/self/autogroup");
  std::size_t at = text.rfind("nice ");
  int value = 0;
  if (at == std::string::npos ||
      std::from_chars(text.data() + at + 5, text.data() + text.size(), value).ec != std::errc()) {
    return std::nullopt;
  }
  return value;
}

void set_session_nice(int value) {
  Fd fd(::open("/proc/self/autogroup", O_WRONLY | O_CLOEXEC));
  if (!fd) return;
  std::string text = std::to_string(value);
  [[maybe_unused]] ssize_t done = ::write(fd.get(), text.data(), text.size());
}

// A session of our own: we or the shell that cron started lead it, and no terminal controls it.
bool leads_session_without_terminal() {
  pid_t leader = ::getsid(0);
  if (leader != ::getpid() && leader != ::getppid()) return false;
  return !Fd(::open("/dev/tty", O_RDWR | O_CLOEXEC | O_NOCTTY));
}

int inhibit(sd_bus* bus, const std::string& why, const char* mode) {
  sd_bus_message *call = nullptr, *reply = nullptr;
  int fd = -1;
  if (sd_bus_message_new_method_call(bus, &call, kLoginManager, kLoginPath, kLoginInterface,
                                     "Inhibit") >= 0 &&
      sd_bus_message_append(call, "ssss", "shutdown:sleep:idle", "Kestrum", why.c_str(), mode) >=
          0 &&
      sd_bus_call(bus, call, kBusTimeout, nullptr, &reply) >= 0) {
    int theirs = -1;
    if (sd_bus_message_read(reply, "h", &theirs) >= 0) fd = ::fcntl(theirs, F_DUPFD_CLOEXEC, 3);
  }
  sd_bus_message_unref(reply);
  sd_bus_message_unref(call);
  return fd;
}

}  // namespace

void lower_priority() {
  ::setpriority(PRIO_PROCESS, 0, std::max(kNice, ::getpriority(PRIO_PROCESS, 0)));
  ::syscall(SYS_ioprio_set, kIoprioWhoProcess, 0, kIoprioClassIdle);
}

SessionGivesWay::SessionGivesWay() {
  std::lock_guard lock(session_lock);
  if (session_users++ > 0 || !leads_session_without_terminal()) return;
  std::optional<int> now = session_nice();
  if (!now || *now >= kNice) return;
  session_nice_was = *now;
  set_session_nice(kNice);
}

SessionGivesWay::~SessionGivesWay() {
  std::lock_guard lock(session_lock);
  if (--session_users > 0 || session_nice_was >= kNice) return;
  set_session_nice(session_nice_was);
  session_nice_was = kNice;
}

unsigned worker_threads(bool low_priority) {
  unsigned all = std::max(1u, std::thread::hardware_concurrency());
  return low_priority && all > 2 ? all - std::max(1u, all / 4) : all;
}

bool on_battery(const std::string& power_supplies) {
  bool discharging = false;
  if (!is_folder(power_supplies)) return false;
  for (const auto& name : list_folder(power_supplies)) {
    std::string supply = power_supplies + "/" + name;
    std::string type = attribute(supply + "/type");
    if (type == "Battery") {
      // A mouse's battery is nobody's reason to wait.
      if (attribute(supply + "/scope") == "Device") continue;
      discharging |= attribute(supply + "/status") == "Discharging";
    } else if (attribute(supply + "/online") == "1") {
      return false;
    }
  }
  return discharging;
}

SleepInhibitor::SleepInhibitor(const std::string& why) {
  sd_bus* bus = nullptr;
  if (sd_bus_open_system(&bus) < 0) return;
  fd_ = inhibit(bus, why, "block");
  if (fd_ < 0) fd_ = inhibit(bus, why, "delay");  // what any user may ask for
  sd_bus_flush_close_unref(bus);
}

SleepInhibitor::~SleepInhibitor() {
  if (fd_ >= 0) ::close(fd_);
}

void ask_power_off(const std::string& why) {
  sd_bus* bus = nullptr;
  int result = sd_bus_open_system(&bus);
  auto call = [&](const char* method, const char* types, auto... arguments) {
    if (result < 0) return;
    result = sd_bus_call_method(bus, kLoginManager, kLoginPath, kLoginInterface, method, nullptr,
                                nullptr, types, arguments...);
  };
  call("SetWallMessage", "sb", why.c_str(), 1);
  auto when = static_cast<std::uint64_t>((real_now() + kMinute) / 1000);  // microseconds
  call("ScheduleShutdown", "st", "poweroff", when);
  sd_bus_flush_close_unref(bus);
  if (result >= 0) return;
  throw Error(ErrorKind::kFailed, "the system refused to power off: " + errno_text(-result),
              "systemd's login manager is asked; may this user power off?");
}

}  // namespace kestrum
