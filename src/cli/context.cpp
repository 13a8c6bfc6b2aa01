#include "context.h"

#include <fcntl.h>
#include <fmt/format.h>
#include <sys/stat.h>
#include <termios.h>
#include <unistd.h>

#include <atomic>
#include <csignal>
#include <cstdio>
#include <cstdlib>
#include <cstring>
#include <random>

#include "kestrum/base/file.h"
#include "kestrum/base/own_file.h"
#include "kestrum/base/shell_word.h"
#include "kestrum/base/text.h"
#include "kestrum/crypto/weak_passphrase.h"
#include "questions.h"
#include "screen.h"

namespace kestrum::cli {
namespace {

// Set by a signal, read by every thread.
std::atomic<int> stop_signals = 0;
static_assert(std::atomic<int>::is_always_lock_free);
std::optional<Secret> environment_passphrase, environment_next_passphrase;

void on_stop_signal(int) {
  // The first asks for an orderly end; whoever insists gets the system's.
  if (stop_signals != 0) std::_Exit(130);
  stop_signals = 1;
}

std::optional<Secret> take(const char* name) {
  char* value = std::getenv(name);
  if (value == nullptr) return std::nullopt;
  Secret secret{std::string_view(value)};
  wipe(value, std::strlen(value));
  ::unsetenv(name);
  return secret.empty() ? std::nullopt : std::optional(secret);
}

Secret read_secret_file(const std::string& path) {
  Fd fd(path == "-" ? ::fcntl(STDIN_FILENO, F_DUPFD_CLOEXEC, 0)
                    : ::open(path.c_str(), O_RDONLY | O_CLOEXEC));
  struct stat st {};
  if (!fd || ::fstat(fd.get(), &st) != 0) {
    throw system_error(errno, "passphrase file " + path, ErrorKind::kPassphrase);
  }
  if (path != "-") require_own(st, path, ErrorKind::kPassphrase);
  if (S_ISREG(st.st_mode) && path != "-" && (st.st_mode & 0044) != 0) {
    throw Error(ErrorKind::kPassphrase, path + ": others can read this passphrase file",
                "chmod 600 " + shell_word(path));
  }
  Secret secret = read_secret(fd.get(), "passphrase file " + path, 4096);
  if (!secret.empty() && secret.text().ends_with('\n')) secret.pop_back();
  if (secret.empty()) throw Error(ErrorKind::kPassphrase, path + ": the passphrase is empty");
  return secret;
}

// Of one that nobody is there to be asked about.
Secret warned(Secret passphrase) {
  if (auto weak = why_weak(passphrase)) {
    put_message("warning: the passphrase is easy to guess: " + *weak + "\n");
  }
  return passphrase;
}

// Asks on the terminal without echo; nothing if there is no terminal.
std::optional<Secret> ask_terminal(const std::string& question) {
  Fd tty(::open("/dev/tty", O_RDWR | O_CLOEXEC));
  if (!tty || ::isatty(STDIN_FILENO) == 0) return std::nullopt;
  termios before{};
  if (::tcgetattr(tty.get(), &before) != 0) return std::nullopt;
  termios silent = before;
  silent.c_lflag &= ~static_cast<tcflag_t>(ECHO);
  ::tcsetattr(tty.get(), TCSAFLUSH, &silent);  // before the question: nothing typed early is shown
  write_all(tty.get(), as_bytes(question), "terminal");
  Secret secret;
  char c = 0;
  while (::read(tty.get(), &c, 1) == 1 && c != '\n') secret.push_back(c);
  ::tcsetattr(tty.get(), TCSAFLUSH, &before);
  write_all(tty.get(), as_bytes("\n"), "terminal");
  if (stop_requested()) throw Error(ErrorKind::kStopped, "stopped");
  return secret;
}

}  // namespace

void Context::print_json(const Json& document) const {
  Json answer = {{"kestrum", 1}};
  answer.update(document);
  fmt::print("{}\n", answer.dump(2, ' ', false, Json::error_handler_t::replace));
}

void Context::say(const std::string& line) const {
  if (!json) fmt::print("{}\n", wrapped(line, output_screen().columns));
}

void Context::data(const std::string& before, const std::string& name,
                   const std::string& after) const {
  if (!json) fmt::print("{}\n", data_line(before, name, after, output_screen()));
}

void Context::tell_data(const std::string& before, const std::string& name,
                        const std::string& after) const {
  std::fflush(stdout);
  put_message(data_line(before, name, after, message_screen()) + "\n");
}

void Context::tell(const std::string& line) const {
  std::fflush(stdout);
  put_message(wrapped(line, message_screen().columns) + "\n");
}

bool stop_requested() {
  return stop_signals != 0;
}

void watch_for_stop() {
  struct sigaction action {};
  action.sa_handler = on_stop_signal;
  ::sigaction(SIGINT, &action, nullptr);
  ::sigaction(SIGTERM, &action, nullptr);
  std::signal(SIGPIPE, SIG_IGN);
}

void take_secrets_from_environment() {
  environment_passphrase = take("KESTRUM_PASSPHRASE");
  environment_next_passphrase = take("KESTRUM_NEXT_PASSPHRASE");
}

void forget_environment_passphrase() {
  environment_passphrase.reset();
}

bool passphrase_given(const Args& args) {
  return args.has("passphrase-from") || environment_passphrase;
}

bool new_passphrase_given(const Args& args) {
  return args.has("next-passphrase-from") || environment_next_passphrase;
}

std::optional<Secret> find_passphrase(const Args& args, const std::string& job,
                                      const std::string& job_file, bool may_ask) {
  if (auto file = args.get("passphrase-from")) return read_secret_file(*file);
  if (environment_passphrase) return environment_passphrase;
  if (!job_file.empty()) return read_secret_file(job_file);
  if (!may_ask) return std::nullopt;
  return ask_terminal("passphrase of " + job + ": ");
}

Secret another_passphrase(const Args& args, const std::string& job) {
  if (auto file = args.get("next-passphrase-from")) return warned(read_secret_file(*file));
  if (environment_next_passphrase) return warned(*environment_next_passphrase);
  for (int attempt = 0; attempt < 3; ++attempt) {
    auto first = ask_terminal("a new passphrase for " + job + ": ");
    if (!first) break;
    if (first->empty()) {
      put_message("It cannot be empty.\n");
      continue;
    }
    if (auto weak = why_weak(*first)) {
      put_message("Too easy to guess: " + *weak + ".\n");
      if (!ask_yes("Take it all the same?", false)) continue;
    }
    auto second = ask_terminal("the same once more: ");
    if (second && *first == *second) return *first;
    put_message("They differ.\n");
  }
  throw Error(
      ErrorKind::kPassphrase, "a new passphrase is needed for " + job,
      "give it by --next-passphrase-from FILE or KESTRUM_NEXT_PASSPHRASE, or on a terminal");
}

Secret new_passphrase(const Args& args, const std::string& job) {
  if (!new_passphrase_given(args)) {
    if (auto known = find_passphrase(args, job, "", false)) return warned(*known);
  }
  return another_passphrase(args, job);
}

std::function<std::optional<Secret>()> ask_again(const Args& args, const std::string& job,
                                                 const std::string& job_file) {
  bool typed = !passphrase_given(args) && job_file.empty();
  return [job, typed, left = 2]() mutable -> std::optional<Secret> {
    if (!typed || left-- == 0) return std::nullopt;
    put_message("That is not the passphrase of " + printable(job) + ".\n");
    return ask_terminal("passphrase of " + job + ": ");
  };
}

std::uint64_t random_seed() {
  return std::random_device{}() | std::uint64_t{std::random_device{}()} << 32;
}

Json error_json(const Error& error) {
  auto or_null = [](const std::string& text) { return text.empty() ? Json(nullptr) : Json(text); };
  Json body = {{"exit", error.exit_code()},
               {"message", printable(error.message())},
               {"hint", or_null(printable(error.hint()))},
               {"job", or_null(printable(error.job()))}};
  if (error.path().empty()) {
    body["path"] = nullptr;
  } else {
    put_name(body, "path", error.path());
  }
  return body;
}

Json disk_json(const std::string& disk) {
  return disk.empty() ? Json(nullptr) : Json(disk);
}

std::string job_on_disk(const std::string& job, const std::string& disk) {
  return printable(job) + (disk.empty() ? "" : " on " + printable(disk));
}

std::optional<std::string> chosen_disk(const Args& args) {
  if (args.has("on") && args.has("shelf")) {
    throw Error(ErrorKind::kUsage, "--on chooses a disk of a job: either NAME or --shelf");
  }
  return args.get("on");
}

ReadOptions read_options(const Context& context, const Args& args, const std::string& usage,
                         bool need_content) {
  ReadOptions options;
  options.need_content = need_content;
  std::string job_file, name;
  if (auto shelf = args.get("shelf")) {
    options.shelf_folder = *shelf;
    name = *shelf;
  } else {
    if (args.positional().empty()) throw Error(ErrorKind::kUsage, "which job? usage: " + usage);
    name = args.positional()[0];
    options.job = context.jobs().load(name);
    job_file = options.job->passphrase_from;
  }
  options.on = chosen_disk(args);
  if (auto key_file = args.get("key-file")) {
    Fd fd(::open(key_file->c_str(), O_RDONLY | O_CLOEXEC));
    if (!fd) throw system_error(errno, *key_file, ErrorKind::kPassphrase);
    Secret text = read_secret(fd.get(), *key_file, 1 << 20);
    options.keys.key_file = parse_identity_file(text.text(), *key_file);
  }
  if (auto signer = args.get("signer")) {
    if (options.keys.key_file.empty()) {
      throw Error(ErrorKind::kUsage, "--signer goes with --key-file");
    }
    options.keys.signer = lower_ascii(*signer);
  }
  options.keys.given = passphrase_given(args) || !options.keys.key_file.empty();
  options.keys.unprotected_meant = args.has("unprotected");
  options.keys.passphrase = [args, name, job_file] {
    return find_passphrase(args, name, job_file, true);
  };
  options.keys.again = ask_again(args, name, job_file);
  return options;
}

}  // namespace kestrum::cli
