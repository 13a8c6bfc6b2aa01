#include "kestrum/machine/action_log.h"

#include <fcntl.h>
#include <pwd.h>
#include <unistd.h>

#include <cstdlib>

#include "kestrum/base/file.h"
#include "kestrum/base/host_name.h"
#include "kestrum/base/json.h"
#include "kestrum/base/text.h"
#include "kestrum/base/units.h"
#include "kestrum/machine/run_records.h"

namespace kestrum {
namespace {

constexpr std::size_t kLongestLog = 1 << 20;

std::string log_path_of(const MachineState& machine, const std::string& job) {
  return machine.runs_folder(job) + "/actions.jsonl";
}

std::string user_name() {
  const passwd* user = ::getpwuid(::getuid());
  return user == nullptr ? std::to_string(::getuid()) : user->pw_name;
}

}  // namespace

std::string acting_user() {
  std::string name = user_name();
  const char* asked = std::getenv("SUDO_USER");
  return asked == nullptr || *asked == '\0' || name == asked ? name : name + " for " + asked;
}

void note_action(const MachineState& machine, const std::string& job, const std::string& what,
                 const std::string& detail, Nanos now) {
  try {
    make_folders(machine.runs_folder(job));
    std::string log_path = log_path_of(machine, job);
    Json line = {{"when", format_rfc3339(now)},
                 {"host", host_name()},
                 {"who", printable(acting_user())},
                 {"what", what},
                 {"detail", printable(detail)}};
    Fd log(::open(log_path.c_str(), O_WRONLY | O_APPEND | O_CREAT | O_CLOEXEC, 0600));
    if (log) write_all(log.get(), as_bytes(line.dump() + "\n"), log_path);
  } catch (const std::exception&) {
  }
}

std::vector<Action> actions_of(const MachineState& machine, const std::string& job) {
  std::vector<Action> actions;
  std::string log_path = log_path_of(machine, job);
  if (!path_exists(log_path)) return actions;
  std::string text = read_file(log_path, std::size_t{1} << 30);
  if (text.size() > kLongestLog) text.erase(0, text.size() - kLongestLog);
  for (const std::string& line : split(text, '\n')) {
    Json json = Json::parse(line, nullptr, false);
    if (!json.is_object()) continue;
    actions.push_back({record_time(json, "when"), record_text(json, "host"),
                       record_text(json, "who"), record_text(json, "what"),
                       record_text(json, "detail")});
  }
  return actions;
}

}  // namespace kestrum
