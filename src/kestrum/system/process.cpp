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
#include "kestrum/base/text.h"
#include "kestrum/base/units.h"

extern char** environ;

namespace kestrum {
namespace {

constexpr Nanos kMercy = 5 * kSecond;  // between SIGTERM and SIGKILL
constexpr std::size_t kLongestLine = 4096;
constexpr std::size_t kMostOutput = 64 << 20;  // of a filter

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

// As execve(2) takes them.
std::vector<char*> pointers_to(std::vector<std::string>& words) {
  std::vector<char*> pointers;
  pointers.reserve(words.size() + 1);
  for (auto& word : words) pointers.push_back(word.data());
  pointers.push_back(nullptr);
  return pointers;
}

struct Pipe {
  Pipe() {
    int ends[2];
    if (::pipe2(ends, O_CLOEXEC) != 0) return;
    reading.reset(ends[0]);
    writing.reset(ends[1]);
    made = true;
  }
  Fd reading, writing;
  bool made = false;
};

// Of a pipe whose reader may have ended.
ssize_t write_without_signal(int fd, std::string_view text) {
  sigset_t pipe_signal, before, pending;
  ::sigemptyset(&pipe_signal);
  ::sigaddset(&pipe_signal, SIGPIPE);
  ::pthread_sigmask(SIG_BLOCK, &pipe_signal, &before);
  ssize_t n = ::write(fd, text.data(), text.size());
  int problem = errno;
  ::sigpending(&pending);
  timespec now{};
  if (::sigismember(&pending, SIGPIPE) == 1) ::sigtimedwait(&pipe_signal, nullptr, &now);
  ::pthread_sigmask(SIG_SETMASK, &before, nullptr);
  errno = problem;
  return n;
}

// What there is to be read; `end` is closed at its end.
void take_output(Fd& end, std::string& text) {
  char buffer[16384];
  for (ssize_t n; (n = ::read(end.get(), buffer, sizeof buffer)) != -1;) {
    if (n == 0) {
      end.reset();
      return;
    }
    text.append(buffer, static_cast<std::size_t>(n));
  }
}

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

FilterResult run_filter(const Filter& filter) {
  Environment variables(std::map<std::string, std::string>{{"LC_ALL", "C.UTF-8"}});
  std::vector<std::string> words = filter.command;
  std::vector<char*> argv = pointers_to(words);
  Pipe input, output, errors;
  if (!input.made || !output.made || !errors.made) return {false, errno_text(errno), ""};
  pid_t pid = ::fork();
  if (pid < 0) return {false, errno_text(errno), ""};
  if (pid == 0) {
    ::signal(SIGPIPE, SIG_DFL);
    ::dup2(input.reading.get(), STDIN_FILENO);
    ::dup2(output.writing.get(), STDOUT_FILENO);
    ::dup2(errors.writing.get(), STDERR_FILENO);
    ::close_range(STDERR_FILENO + 1, ~0U, 0);
    ::execvpe(argv[0], argv.data(), variables.pointers());
    ::_exit(127);
  }
  input.reading.reset();
  output.writing.reset();
  errors.writing.reset();
  for (const Fd* end : {&input.writing, &output.reading, &errors.reading}) {
    ::fcntl(end->get(), F_SETFL, O_NONBLOCK);
  }
  FilterResult result;
  std::string said;
  bool killed = false;
  Nanos start = steady_now();
  for (std::string_view left = filter.input; output.reading || errors.reading;) {
    if (left.empty()) input.writing.reset();
    pollfd ends[] = {{input.writing ? input.writing.get() : -1, POLLOUT, 0},
                     {output.reading ? output.reading.get() : -1, POLLIN, 0},
                     {errors.reading ? errors.reading.get() : -1, POLLIN, 0}};
    ::poll(ends, 3, 100);
    if (ends[0].revents != 0) {
      ssize_t n = write_without_signal(input.writing.get(), left);
      if (n > 0) left.remove_prefix(static_cast<std::size_t>(n));
      if (n < 0 && errno != EAGAIN && errno != EINTR) left = {};  // it wants no more
    }
    if (ends[1].revents != 0) take_output(output.reading, result.output);
    if (ends[2].revents != 0) take_output(errors.reading, said);
    if (steady_now() - start > filter.limit || result.output.size() > kMostOutput) {
      killed = true;
      break;
    }
  }
  if (killed) ::kill(pid, SIGKILL);
  int status = 0;
  while (::waitpid(pid, &status, 0) < 0 && errno == EINTR) {
  }
  result.ok = !killed && WIFEXITED(status) && WEXITSTATUS(status) == 0;
  if (result.ok) return result;
  result.reason = killed ? "it took too long, or wrote too much"
                  : WIFEXITED(status) && WEXITSTATUS(status) == 127
                      ? filter.command[0] + " is not installed"
                      : status_text(status);
  if (!said.empty()) result.reason += ": " + std::string(trimmed(said.substr(0, kLongestLine)));
  return result;
}

int run_in_terminal(const TerminalProgram& program) {
  Environment variables(program.environment);
  std::vector<std::string> words = program.arguments;
  std::vector<char*> argv = pointers_to(words);
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
