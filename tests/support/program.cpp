#include "support/program.h"

#include <fcntl.h>
#include <gtest/gtest.h>
#include <poll.h>
#include <pty.h>
#include <sys/wait.h>
#include <unistd.h>

#include <algorithm>
#include <csignal>
#include <cstdlib>
#include <filesystem>
#include <fstream>

#include "kestrum/base/file.h"
#include "kestrum/base/units.h"
#include "support/hints.h"

namespace kestrum::test {
namespace {

// A program to start, all of it made before the fork: another thread of the tests may hold what
// allocating takes, and nobody lets go of it in the child.
class Start {
 public:
  Start(std::vector<std::string> words, const Environment& environment) : words_(std::move(words)) {
    for (char** variable = environ; *variable != nullptr; ++variable) {
      std::string text = *variable;
      if (!environment.contains(text.substr(0, text.find('=')))) variables_.push_back(text);
    }
    for (const auto& [name, value] : environment) {
      if (!value.empty()) variables_.push_back(name + "=" + value);
    }
    for (auto& word : words_) argv_.push_back(word.data());
    for (auto& variable : variables_) envp_.push_back(variable.data());
    argv_.push_back(nullptr);
    envp_.push_back(nullptr);
  }
  Start(const Start&) = delete;
  Start& operator=(const Start&) = delete;
  [[noreturn]] void become() const {
    ::execvpe(argv_[0], argv_.data(), envp_.data());
    ::_exit(127);
  }
  // The same with these for its standard input, output and errors.
  pid_t fork(const Fd& in, const Fd& out, const Fd& err) const {
    pid_t pid = ::fork();
    if (pid != 0) return pid;
    ::dup2(in.get(), 0);
    ::dup2(out.get(), 1);
    ::dup2(err.get(), 2);
    become();
  }
  // The same on a terminal of its own, whose other end is given back.
  pid_t fork_on(int* terminal) const {
    pid_t pid = ::forkpty(terminal, nullptr, nullptr, nullptr);
    if (pid == 0) become();
    return pid;
  }

 private:
  std::vector<std::string> words_, variables_;
  std::vector<char*> argv_, envp_;
};

Start shell(const std::string& script, const Environment& environment) {
  return Start({"bash", "-euo", "pipefail", "-c", script}, environment);
}

Fd to_read(const std::string& path) {
  return Fd(::open(path.c_str(), O_RDONLY | O_CLOEXEC));
}

Fd to_append(const std::string& path) {
  return Fd(::open(path.c_str(), O_WRONLY | O_CREAT | O_APPEND | O_CLOEXEC, 0600));
}

int exit_code(pid_t pid) {
  int status = 0;
  ::waitpid(pid, &status, 0);
  return WIFEXITED(status) ? WEXITSTATUS(status) : 128 + WTERMSIG(status);
}

std::string slurp(const std::string& path) {
  std::ifstream file(path, std::ios::binary);
  return {std::istreambuf_iterator<char>(file), {}};
}

}  // namespace

Ran run_program(const std::vector<std::string>& argv, const Environment& environment,
                const std::string& input) {
  // Through files: no pipe can fill up, whatever is printed.
  TempFolder files;
  put_file(files / "in", input);
  pid_t pid = Start(argv, environment)
                  .fork(to_read(files / "in"), to_append(files / "out"), to_append(files / "err"));
  Ran ran;
  ran.exit = exit_code(pid);
  ran.out = slurp(files / "out");
  ran.err = slurp(files / "err");
  return ran;
}

Ran run_script(const std::string& script, const Environment& environment) {
  return run_program({"bash", "-euo", "pipefail", "-c", script}, environment);
}

Ran run_on_terminal(const std::string& script, const std::string& typed,
                    const Environment& environment) {
  int terminal = -1;
  pid_t pid = shell(script, environment).fork_on(&terminal);
  Ran ran;
  std::size_t answered = 0;
  for (;;) {
    pollfd waiting{terminal, POLLIN, 0};
    if (::poll(&waiting, 1, 60'000) <= 0) break;
    char buffer[4096];
    ssize_t n = ::read(terminal, buffer, sizeof buffer);
    if (n <= 0) break;
    ran.out.append(buffer, static_cast<std::size_t>(n));
    // Each question ends with a colon; what follows it is not echoed.
    for (std::size_t asked; (asked = ran.out.find(": ", answered)) != std::string::npos;) {
      std::string question = ran.out.substr(ran.out.rfind('\n', asked) + 1);
      answered = asked + 2;
      bool is_question = question.find("ew passphrase for") != std::string::npos ||
                         question.find("assphrase of") != std::string::npos ||
                         question.find("Enter passphrase") != std::string::npos ||
                         question.find("Confirm passphrase") != std::string::npos ||
                         question.find("once more") != std::string::npos;
      if (!is_question) continue;
      std::string line = typed + "\n";
      if (::write(terminal, line.data(), line.size()) < 0) break;
    }
  }
  ::close(terminal);
  ran.exit = exit_code(pid);
  return ran;
}

Ran run_dialogue(const std::string& script, const std::vector<Turn>& turns,
                 const Environment& environment) {
  int terminal = -1;
  pid_t pid = shell(script, environment).fork_on(&terminal);
  Ran ran;
  std::size_t next = 0, answered = 0;
  for (;;) {
    pollfd waiting{terminal, POLLIN, 0};
    if (::poll(&waiting, 1, 30'000) <= 0) {
      ::kill(pid, SIGKILL);
      break;
    }
    char buffer[4096];
    ssize_t n = ::read(terminal, buffer, sizeof buffer);
    if (n <= 0) break;
    ran.out.append(buffer, static_cast<std::size_t>(n));
    std::size_t asked;
    while (next < turns.size() &&
           (asked = ran.out.find(turns[next].asked, answered)) != std::string::npos) {
      answered = asked + turns[next].asked.size();
      if (turns[next].before) turns[next].before();
      std::string line = turns[next++].answer + "\n";
      if (::write(terminal, line.data(), line.size()) < 0) break;
    }
  }
  ::close(terminal);
  ran.exit = exit_code(pid);
  for (; next < turns.size(); ++next) ran.err += "never asked: " + turns[next].asked + "\n";
  return ran;
}

Background::Background(const std::vector<std::string>& argv, const Environment& environment) {
  pid_ = Start(argv, environment)
             .fork(to_read("/dev/null"), to_append(files_ / "out"), to_append(files_ / "err"));
}

Background::~Background() {
  if (ended_) return;
  signal(SIGKILL);
  exit_code(pid_);
}

void Background::signal(int number) const {
  ::kill(pid_, number);
}

bool Background::has_ended() const {
  siginfo_t info{};
  return ended_ ||
         (::waitid(P_PID, static_cast<id_t>(pid_), &info, WEXITED | WNOHANG | WNOWAIT) == 0 &&
          info.si_pid != 0);
}

Ran Background::wait() {
  Ran ran;
  ran.exit = exit_code(pid_);
  ended_ = true;
  ran.out = slurp(files_ / "out");
  ran.err = slurp(files_ / "err");
  return ran;
}

std::string Background::output() const {
  return slurp(files_ / "out") + slurp(files_ / "err");
}

bool eventually(const std::function<bool()>& condition, int seconds) {
  for (int look = 0; look < seconds * 10; ++look) {
    if (condition()) return true;
    ::usleep(100'000);
  }
  return false;
}

bool have_program(const std::string& name) {
  return run_program({"bash", "-c", "command -v " + name}).exit == 0;
}

Desk::Desk(std::string host) : host_(std::move(host)) {
  std::filesystem::create_directories(source());
  std::filesystem::create_directories(disk());
  environment = {{"KESTRUM_HOME", folder / "home"},
                 {"KESTRUM_HOST", host_},
                 {"KESTRUM_PASSPHRASE", "salt and sand"},
                 {"KESTRUM_NEXT_PASSPHRASE", ""},
                 {"KESTRUM_NOW", ""},
                 {"COLUMNS", "1000"},  // sentences stay whole; narrow ones are tested in width_test
                 {"TZ", "UTC"}};
}

Ran Desk::kestrum(const std::vector<std::string>& words) {
  std::vector<std::string> argv = program;
  argv.insert(argv.end(), words.begin(), words.end());
  Ran ran = run_program(argv, environment);
  if (std::find(words.begin(), words.end(), "--json") != words.end()) return ran;
  for (const std::string& hint : hints_in(ran.out + "\n" + ran.err)) {
    EXPECT_EQ(why_no_command(hint), "") << "printed to be pasted: " << hint;
  }
  return ran;
}

void Desk::on_day(int day) {
  environment["KESTRUM_NOW"] = format_rfc3339(*parse_rfc3339("2026-03-01T21:00:00Z") + day * kDay);
}

Json Desk::json(const std::vector<std::string>& words, int expected_exit) {
  std::vector<std::string> all = words;
  all.push_back("--json");
  Ran ran = kestrum(all);
  EXPECT_EQ(ran.exit, expected_exit) << ran.out << ran.err;
  Json json = Json::parse(ran.out, nullptr, false);
  EXPECT_TRUE(json.is_object() && json.value("kestrum", 0) == 1) << ran.out << ran.err;
  return json.is_object() ? json : Json::object();
}

void Desk::define(const std::vector<std::string>& more) {
  std::vector<std::string> words = {"job",    "new",  "desk", "--from",
                                    source(), "--to", disk(), "--same-disk"};
  words.insert(words.end(), more.begin(), more.end());
  Ran ran = kestrum(words);
  ASSERT_EQ(ran.exit, 0) << ran.out << ran.err;
}

void Desk::become_nobody() {
  std::filesystem::copy_file(KESTRUM_PROGRAM, folder / "kestrum");
  program = {"setpriv", "--reuid=65534", "--regid=65534", "--clear-groups", folder / "kestrum"};
  give_to_nobody();
}

void Desk::give_to_nobody() {
  run_program({"chown", "-R", "65534:65534", folder.path()});
}

void Desk::lose_index() {
  for (const auto& entry : std::filesystem::recursive_directory_iterator(folder / "home/state")) {
    if (entry.path().filename().string().starts_with("index.sqlite")) {
      std::filesystem::remove(entry.path());
    }
  }
}

std::string Desk::copy_index() {
  std::string copy = folder / "index-copy";
  std::filesystem::remove_all(copy);
  std::filesystem::create_directories(copy);
  for (const auto& entry : std::filesystem::recursive_directory_iterator(folder / "home/state")) {
    std::string name = entry.path().filename();
    bool wanted = name == "index.sqlite" || name == "index.sqlite-wal";
    if (wanted) write_file(copy + "/" + name, read_file(entry.path()));
  }
  return copy + "/index.sqlite";
}

std::set<std::string> Desk::sets() {
  std::set<std::string> names;
  Json chains = json({"sets", "desk"})["chains"];
  for (const Json& chain : chains) {
    for (const Json& set : chain["sets"]) names.insert(set["set"]);
  }
  return names;
}

std::string Desk::set_folder(const std::string& set) const {
  for (const auto& name : list_folder(shelf() + "/sets")) {
    std::string seal = shelf() + "/sets/" + name + "/seal.json";
    if (path_exists(seal) && Json::parse(read_file(seal))["set"] == set) return parent_of(seal);
  }
  ADD_FAILURE() << "no set " << set;
  return "";
}

}  // namespace kestrum::test
