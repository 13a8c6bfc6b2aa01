#include "support/fake_login_manager.h"

#include <fcntl.h>
#include <systemd/sd-bus.h>
#include <unistd.h>

#include <atomic>
#include <mutex>
#include <thread>

#include "kestrum/base/file.h"
#include "support/temp_folder.h"

namespace kestrum::test {

struct FakeLoginManager::Service {
  TempFolder folder;
  std::string address;
  std::unique_ptr<Background> daemon;
  sd_bus* bus = nullptr;
  bool ready = false;
  std::atomic<bool> end = false;
  std::thread thread;
  int pipe_ends[2] = {-1, -1};
  mutable std::mutex mutex;  // of what follows
  std::string inhibited, scheduled, wall_message;

  static int inhibit(sd_bus_message* call, void* data, sd_bus_error*) {
    auto& service = *static_cast<Service*>(data);
    const char *what = nullptr, *who = nullptr, *why = nullptr, *mode = nullptr;
    if (sd_bus_message_read(call, "ssss", &what, &who, &why, &mode) < 0) return -EINVAL;
    std::lock_guard guard(service.mutex);
    service.inhibited = std::string(what) + " " + mode + ": " + why;
    return sd_bus_reply_method_return(call, "h", service.pipe_ends[1]);
  }
  static int schedule(sd_bus_message* call, void* data, sd_bus_error*) {
    auto& service = *static_cast<Service*>(data);
    const char* type = nullptr;
    std::uint64_t when = 0;
    if (sd_bus_message_read(call, "st", &type, &when) < 0) return -EINVAL;
    std::lock_guard guard(service.mutex);
    service.scheduled = type;
    return sd_bus_reply_method_return(call, "");
  }
  static int set_wall_message(sd_bus_message* call, void* data, sd_bus_error*) {
    auto& service = *static_cast<Service*>(data);
    const char* text = nullptr;
    int enable = 0;
    if (sd_bus_message_read(call, "sb", &text, &enable) < 0) return -EINVAL;
    std::lock_guard guard(service.mutex);
    service.wall_message = text;
    return sd_bus_reply_method_return(call, "");
  }
};

FakeLoginManager::FakeLoginManager() : service_(std::make_unique<Service>()) {
  static const sd_bus_vtable kManager[] = {
      SD_BUS_VTABLE_START(0),
      SD_BUS_METHOD("Inhibit", "ssss", "h", Service::inhibit, SD_BUS_VTABLE_UNPRIVILEGED),
      SD_BUS_METHOD("ScheduleShutdown", "st", "", Service::schedule, SD_BUS_VTABLE_UNPRIVILEGED),
      SD_BUS_METHOD("SetWallMessage", "sb", "", Service::set_wall_message,
                    SD_BUS_VTABLE_UNPRIVILEGED),
      SD_BUS_VTABLE_END};
  Service& s = *service_;
  if (!have_program("dbus-daemon") || ::pipe2(s.pipe_ends, O_CLOEXEC) != 0) return;
  s.address = "unix:path=" + (s.folder / "bus");
  put_file(s.folder / "bus.conf",
           "<busconfig><type>session</type><listen>" + s.address +
               "</listen><policy context='default'><allow send_destination='*' eavesdrop='true'/>"
               "<allow eavesdrop='true'/><allow own='*'/></policy></busconfig>");
  s.daemon = std::make_unique<Background>(
      std::vector<std::string>{"dbus-daemon", "--nofork",
                               "--config-file=" + (s.folder / "bus.conf")},
      std::map<std::string, std::string>{});
  if (!eventually([&] { return path_exists(s.folder / "bus"); })) return;
  if (sd_bus_new(&s.bus) < 0 || sd_bus_set_address(s.bus, s.address.c_str()) < 0 ||
      sd_bus_set_bus_client(s.bus, 1) < 0 || sd_bus_start(s.bus) < 0 ||
      sd_bus_add_object_vtable(s.bus, nullptr, "/org/freedesktop/login1",
                               "org.freedesktop.login1.Manager", kManager, &s) < 0 ||
      sd_bus_request_name(s.bus, "org.freedesktop.login1", 0) < 0) {
    return;
  }
  s.ready = true;
  s.thread = std::thread([&s] {
    while (!s.end) {
      if (sd_bus_process(s.bus, nullptr) == 0) sd_bus_wait(s.bus, 100'000);
    }
  });
}

FakeLoginManager::~FakeLoginManager() {
  service_->end = true;
  if (service_->thread.joinable()) service_->thread.join();
  sd_bus_flush_close_unref(service_->bus);
  for (int end : service_->pipe_ends) {
    if (end >= 0) ::close(end);
  }
}

bool FakeLoginManager::ready() const {
  return service_->ready;
}

const std::string& FakeLoginManager::address() const {
  return service_->address;
}

std::string FakeLoginManager::inhibited() const {
  std::lock_guard guard(service_->mutex);
  return service_->inhibited;
}

std::string FakeLoginManager::scheduled() const {
  std::lock_guard guard(service_->mutex);
  return service_->scheduled;
}

std::string FakeLoginManager::wall_message() const {
  std::lock_guard guard(service_->mutex);
  return service_->wall_message;
}

void FakeLoginManager::close_own_end() {
  std::lock_guard guard(service_->mutex);
  ::close(service_->pipe_ends[1]);
  service_->pipe_ends[1] = -1;
  ::fcntl(service_->pipe_ends[0], F_SETFL, O_NONBLOCK);
}

bool FakeLoginManager::let_go() const {
  char c;
  return ::read(service_->pipe_ends[0], &c, 1) == 0;
}

}  // namespace kestrum::test
