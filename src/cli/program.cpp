#include "program.h"

#include <fmt/format.h>
#include <sys/prctl.h>
#include <sys/resource.h>

#include <algorithm>
#include <cerrno>
#include <cstdio>
#include <system_error>

#include "command.h"
#include "completion.h"
#include "kestrum/base/text.h"
#include "kestrum/job/job_store.h"
#include "man_page.h"
#include "other_words.h"
#include "screen.h"
#include "servers.h"

namespace kestrum::cli {
namespace {

// Nobody reads what is printed any more, as behind `| head`: what a shell reports of a program that
// SIGPIPE ended.
constexpr int kClosedPipe = 141;

// Commands of two words.
bool is_group(const std::string& name) {
  return name == "job" || name == "shelf" || name == "schedule";
}

// The name of the command among the words: its one or two words are taken out.
std::string take_command(std::vector<std::string>& words) {
  auto takes_value = [](const std::string& word) {
    const auto& common = common_options();
    return std::any_of(common.begin(), common.end(), [&](const OptionSpec& option) {
      return word == "--" + option.name && !option.value.empty();
    });
  };
  for (std::size_t i = 0; i < words.size(); ++i) {
    if (words[i].starts_with("-")) {
      i += takes_value(words[i]);
      continue;
    }
    std::string name = words[i];
    words.erase(words.begin() + static_cast<std::ptrdiff_t>(i));
    if ((is_group(name) || name == "help") && i < words.size() && !words[i].starts_with("-")) {
      name += " " + words[i];
      words.erase(words.begin() + static_cast<std::ptrdiff_t>(i));
      if (name.starts_with("help ") && is_group(name.substr(5)) && i < words.size()) {
        name += " " + words[i];
        words.erase(words.begin() + static_cast<std::ptrdiff_t>(i));
      }
    }
    return name;
  }
  return "";
}

Error unknown_command(const std::string& name) {
  std::string ours = other_word(name);
  if (ours.empty()) {
    std::vector<std::string> names;
    for (const Command& command : commands()) names.push_back(command.name);
    if (auto near = nearest_word(name, names)) ours = *near;
  }
  return Error(ErrorKind::kUsage, "no command \"" + printable(name) + "\"",
               ours.empty() ? "all commands: kestrum help"
                            : "did you mean kestrum " + ours + "? kestrum help " + ours);
}

int dispatch(std::vector<std::string> words, Context& context) {
  std::string name = take_command(words);
  bool json = std::find(words.begin(), words.end(), "--json") != words.end();
  context.json = json;
  if (name.empty()) {
    Args args = Args::parse("", {}, words);
    if (args.has("version")) {
      fmt::print("kestrum {}\n", KESTRUM_VERSION);
    } else {
      fmt::print("{}", overview());
    }
    return 0;
  }
  if (name == "help") return fmt::print("{}", overview()), 0;
  if (name.starts_with("help ")) {
    std::string topic = name.substr(5);
    if (is_group(topic)) return fmt::print("{}", help_on_group(topic)), 0;
    if (auto text = help_on_topic(topic)) return fmt::print("{}", *text), 0;
    const Command* command = find_command(topic);
    if (command == nullptr) throw unknown_command(topic);
    fmt::print("{}", help_on(*command));
    return 0;
  }
  if (is_group(name)) return fmt::print("{}", help_on_group(name)), 0;
  const Command* command = find_command(name);
  if (command == nullptr) throw unknown_command(name);
  Args args = Args::parse(name, command->options, words);
  if (args.has("help")) return fmt::print("{}", help_on(*command)), 0;
  if (args.has("version")) return fmt::print("kestrum {}\n", KESTRUM_VERSION), 0;
  context.home = Home::find(args.get("home").value_or(""));
  context.home.require_own();
  context.clock = Clock::from_environment();
  context.quiet = args.has("quiet");
  context.verbose = args.has("verbose");
  context.yes = args.has("yes");
  reach_servers_for(context, name);
  return command->run(context, args);
}

int report(const Context& context, const Error& error) {
  std::fflush(stdout);
  if (context.json) {
    context.print_json({{"error", error_json(error)}});
  }
  std::size_t columns = message_screen().columns;
  put_message(wrapped(printable(error.message()), columns) + "\n");
  if (!error.hint().empty()) {
    put_message(wrapped("  " + printable(error.hint()), columns) + "\n");
  }
  return error.exit_code();
}

// For shells, which ask at each key: nothing but candidates is printed.
int complete(int count, char** words) {
  for (const std::string& candidate : completions({words, words + count})) {
    fmt::print("{}\n", candidate);
  }
  return 0;
}

}  // namespace

int run_program(int argc, char** argv) {
  // A core dump would hold keys. The limit alone says nothing to a program that dumps are piped to.
  rlimit none{0, 0};
  ::setrlimit(RLIMIT_CORE, &none);
#if !defined(__SANITIZE_ADDRESS__)  // which looks for leaks as a debugger would
  ::prctl(PR_SET_DUMPABLE, 0);
#endif
  Context context;
  try {
    crypto_start();
    take_secrets_from_environment();
    watch_for_stop();
    if (argc > 1 && std::string_view(argv[1]) == "--complete") return complete(argc - 2, argv + 2);
    if (argc == 2 && std::string_view(argv[1]) == "--man") return fmt::print("{}", man_page()), 0;
    return dispatch(std::vector<std::string>(argv + 1, argv + argc), context);
  } catch (const Error& error) {
    return report(context, error);
  } catch (const SQLite::Exception& error) {
    return report(context, index_error(error));
  } catch (const std::system_error& error) {
    if (error.code().value() == EPIPE) return kClosedPipe;
    return report(context, Error(ErrorKind::kFailed, error.what()));
  } catch (const std::bad_alloc&) {
    return report(context, Error(ErrorKind::kFailed, "not enough memory"));
  } catch (const std::exception& error) {
    return report(context, Error(ErrorKind::kFailed, error.what()));
  }
}

}  // namespace kestrum::cli
