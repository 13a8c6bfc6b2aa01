#include "kestrum/system/process.h"

#include <fcntl.h>
#include <fmt/format.h>
#include <poll.h>
#include <sys/wait.h>
#include <unistd.h>

#include <cerrno>
#include <csignal>
#include <cstring>
#include <vector>

#include "kestrum/base/error.h"
#include "kestrum/base/file.h"
#include "kestrum/base/units.h"

extern char** environ;

namespace kestrum {
namespace {

constexpr Nanos kMercy = 5 * kSecond;  // between SIGTERM and SIGKILL
constexpr std::size_t kLongestLine = 4096;

// Children that outlive the command may hold its output open; nobody waits for them.
constexpr Nanos kAfterEnd = kSecond / 2;

class LineSplitter {
 public:
  explicit LineSplitter(const std::function<void(const std::string&)>& line) : line_(line) {}
  void add(const char* text, std::size_t length) {
    for (std::size_t i = 0; i < length; ++i) {
      if (text[i] == '\n' || pending_.size() == kLongestLine) flush();
      if (text[i] != '\n') pending_ += text[i];
    }
  }
  void flush() {
    if (!pending_.empty()) line_(pending_);
    pending_.clear();
  }

 private:
  const std::function<void(const std::string&)>& line_;
  std::string pending_;
};

[[noreturn]] void become_shell(const std::string& command, int output, char** environment) {
  ::setpgid(0, 0);
  struct sigaction standard {};
  standard.sa_handler = SIG_DFL;
  for (int signal : {SIGINT, SIGTERM, SIGPIPE}) ::sigaction(signal, &standard, nullptr);
  int nothing = ::open("/dev/null", O_RDONLY);
  ::dup2(nothing, STDIN_FILENO);
  ::dup2(output, STDOUT_FILENO);
  ::dup2(output, STDERR_FILENO);
  // Whatever else is open here, by a library too, is not for the command.
  ::close_range(STDERR_FILENO + 1, ~0U, 0);
  const char* argv[] = {"sh", "-c", command.c_str(), nullptr};
  ::execve("/bin/sh", const_cast<char**>(argv), environment);
  ::_exit(127);
}

std::string status_text(int status) {
  if (WIFSIGNALED(status)) return fmt::format("ended by signal {}", WTERMSIG(status));
  return fmt::format("exit code {}", WEXITSTATUS(status));
}

// This process's variables and `added`, as execve(2) takes them; made before a fork, since nothing
// may be allocated behind it.
class Environment {
 public:
  explicit Environment(const std::map<std::string, std::string>& added) {
    for (char** variable = environ; *variable != nullptr; ++variable) {
      std::string_view text = *variable;
      if (!added.contains(std::string(text.substr(0, text.find('='))))) {
        variables_.emplace_back(text);
      }
    }
    for (const auto& [name, value] : added) variables_.push_back(name + "=" + value);
    for (auto& variable : variables_) pointers_.push_back(variable.data());
    pointers_.push_back(nullptr);
  }
  char** pointers() { return pointers_.data(); }

 private:
  std::vector<std::string> variables_;
  std::vector<char*> pointers_;
};

}  // namespace

CommandResult run_shell_command(const std::string& command,
                                const std::map<std::string, std::string>& environment, Nanos limit,
                                const StopRequest& stop,
                                const std::function<void(const std::string&)>& line) {
  Environment variables(environment);
  int ends[2];
  if (::pipe2(ends, O_CLOEXEC) != 0) return {false, errno_text(errno)};
  Fd reading(ends[0]), writing(ends[1]);
  pid_t pid = ::fork();
  if (pid < 0) return {false, errno_text(errno)};
  if (pid == 0) become_shell(command, writing.get(), variables.pointers());
  ::setpgid(pid, pid);  // whichever of the two comes first
  writing.reset();
  ::fcntl(reading.get(), F_SETFL, O_NONBLOCK);

  LineSplitter lines(line);
  std::string ended_because;
  Nanos start = steady_now(), told_to_end = 0, exited = 0;
  int status = 0;
  bool open = true;
  while (exited == 0 || (open && steady_now() - exited < kAfterEnd)) {
    pollfd waiting{reading.get(), POLLIN, 0};
    if (open) {
      ::poll(&waiting, 1, 50);
    } else {
      ::usleep(20'000);
    }
    char buffer[4096];
    for (ssize_t n; open && (n = ::read(reading.get(), buffer, sizeof buffer)) != -1;) {
      if (n == 0) {
        open = false;
      } else {
        lines.add(buffer, static_cast<std::size_t>(n));
      }
    }
    Nanos now = steady_now();
    if (exited == 0 && ::waitpid(pid, &status, WNOHANG) == pid) exited = now;
    if (exited != 0) continue;
    if (told_to_end == 0) {
      if (now - start > limit) {
        ended_because = "ended after its time limit of " + format_duration(limit);
      } else if (stop && stop()) {
        ended_because = "stopped";
      }
      if (!ended_because.empty()) {
        told_to_end = now;
        ::kill(-pid, SIGTERM);
      }
    } else if (now - told_to_end > kMercy) {
      ::kill(-pid, SIGKILL);
      told_to_end = now;
    }
  }
  lines.flush();
  if (!ended_because.empty()) return {false, ended_because};
  if (WIFEXITED(status) && WEXITSTATUS(status) == 0) return {true, ""};
  return {false, status_text(status)};
}

int run_in_terminal(const TerminalProgram& program) {
  Environment variables(program.environment);
  std::vector<std::string> words = program.arguments;
  std::vector<char*> argv;
  argv.reserve(words.size() + 1);
  for (auto& word : words) argv.push_back(word.data());
  argv.push_back(nullptr);
  pid_t pid = ::fork();
  if (pid < 0) throw system_error(errno, program.file);
  if (pid == 0) {
    if (!program.folder.empty() && ::chdir(program.folder.c_str()) != 0) ::_exit(127);
    ::execve(program.file.c_str(), argv.data(), variables.pointers());
    ::_exit(127);
  }
  int status = 0;
  while (::waitpid(pid, &status, 0) < 0 && errno == EINTR) {
  }
  return WIFEXITED(status) ? WEXITSTATUS(status) : 128 + WTERMSIG(status);
}

}  // namespace kestrum
