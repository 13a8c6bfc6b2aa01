// The commands of the program.
#pragma once

#include <optional>
#include <string>
#include <vector>

#include "args.h"
#include "context.h"

namespace kestrum::cli {

struct Command {
  std::string name;     // "run", or "job new" for a command of a group
  std::string usage;    // behind "kestrum "
  std::string summary;  // for the overview: a line
  std::string about;    // for its own help: a paragraph or two
  std::vector<OptionSpec> options;
  std::vector<std::string> examples;
  int (*run)(const Context&, const Args&);  // returns the exit code, or throws Error
};

const std::vector<Command>& commands();
std::vector<Command> commands_on_shelves();  // a part of them
const Command* find_command(const std::string& name);

std::string overview();
std::string help_on(const Command& command);
// Of a group of commands, such as "job": what each is called with.
std::string help_on_group(const std::string& group);
// "phrases", "patterns", "times", "job-file"; nothing for any other word.
std::optional<std::string> help_on_topic(const std::string& topic);

// One function a command; each in a file of its own.
int job_new(const Context&, const Args&);
int job_list(const Context&, const Args&);
int job_show(const Context&, const Args&);
int job_check(const Context&, const Args&);
int job_categories(const Context&, const Args&);
int job_set(const Context&, const Args&);
int job_edit(const Context&, const Args&);
int job_copy(const Context&, const Args&);
int job_rename(const Context&, const Args&);
int job_pause(const Context&, const Args&);
int job_resume(const Context&, const Args&);
int job_remove(const Context&, const Args&);
int job_take(const Context&, const Args&);
int show_forecast(const Context&, const Args&);
int stop_run(const Context&, const Args&);
int show_status(const Context&, const Args&);
int show_fleet(const Context&, const Args&);  // of show_status
int write_report(const Context&, const Args&);
int show_history(const Context&, const Args&);
int show_agenda(const Context&, const Args&);
int schedule_install(const Context&, const Args&);
int schedule_show(const Context&, const Args&);
int schedule_remove(const Context&, const Args&);
int shelf_start(const Context&, const Args&);
int shelf_claim(const Context&, const Args&);
int shelf_list(const Context&, const Args&);
int shelf_copy(const Context&, const Args&);
int shelf_drop(const Context&, const Args&);
int shelf_erase(const Context&, const Args&);
int run_jobs(const Context&, const Args&);
int list_sets(const Context&, const Args&);
int trust_set(const Context&, const Args&);
int look(const Context&, const Args&);
int trace_files(const Context&, const Args&);
int compare_moments(const Context&, const Args&);
int restore_files(const Context&, const Args&);
int verify_sets(const Context&, const Args&);
int drill_files(const Context&, const Args&);
int passphrase(const Context&, const Args&);
int prune_sets(const Context&, const Args&);
int run_demo(const Context&, const Args&);

}  // namespace kestrum::cli
