// What every command gets: where things are, how to answer, how to ask.
#pragma once

#include <string>

#include "args.h"
#include "kestrum/access/read_session.h"
#include "kestrum/base/clock.h"
#include "kestrum/base/error.h"
#include "kestrum/base/json.h"
#include "kestrum/crypto/secret.h"
#include "kestrum/job/job_store.h"
#include "kestrum/machine/machine_state.h"

namespace kestrum::cli {

struct Context {
  Home home;
  Clock clock;
  bool json = false, quiet = false, verbose = false, yes = false;

  JobStore jobs() const { return JobStore(home); }
  MachineState machine() const { return MachineState(home); }

  // One document on standard output; adds "kestrum": 1 in front.
  void print_json(const Json& document) const;
  // A line on standard output, wrapped to fit, unless the answer is JSON.
  void say(const std::string& line = "") const;
  // A line of data on standard output: `name` is shortened in its middle where a terminal is too
  // narrow; elsewhere the line is whole, for whoever reads it by another program.
  void data(const std::string& before, const std::string& name,
            const std::string& after = "") const;
  // The same on standard error.
  void tell_data(const std::string& before, const std::string& name,
                 const std::string& after = "") const;
  // A line on standard error, wrapped to fit.
  void tell(const std::string& line) const;
};

// Set by SIGINT and SIGTERM.
bool stop_requested();
void watch_for_stop();

// The passphrase of a job or shelf: --passphrase-from, KESTRUM_PASSPHRASE, the job's own file, the
// terminal, in that order; nothing if none of them has one. Throws Error(kPassphrase) for a file
// that others can read.
std::optional<Secret> find_passphrase(const Args& args, const std::string& job,
                                      const std::string& job_file, bool may_ask);
// For whoever typed a wrong one: asks twice more, and gives nothing where nobody was asked.
std::function<std::optional<Secret>()> ask_again(const Args& args, const std::string& job,
                                                 const std::string& job_file);
// Whether there is one without asking, other than the job's own file.
bool passphrase_given(const Args& args);
bool new_passphrase_given(const Args& args);
// A new one: --next-passphrase-from, KESTRUM_NEXT_PASSPHRASE, those above, or the terminal, twice.
// Throws Error(kPassphrase) if there is none.
Secret new_passphrase(const Args& args, const std::string& job);
// One that is to replace another: only from --next-passphrase-from, KESTRUM_NEXT_PASSPHRASE or the
// terminal, twice. Throws Error(kPassphrase) if there is none.
Secret another_passphrase(const Args& args, const std::string& job);
// Moves the secrets out of the environment, so that no child sees them.
void take_secrets_from_environment();
// Once a command has opened what it needs.
void forget_environment_passphrase();

// What files are chosen by at random: another at each call.
std::uint64_t random_seed();

// An error as documents have it.
Json error_json(const Error& error);

// A disk by its name, which is empty if the job has no other: null then, in JSON; in words
// "front-desk" or "front-desk on blue-disk".
Json disk_json(const std::string& disk);
std::string job_on_disk(const std::string& job, const std::string& disk);

// --on, where NAME is given. Throws Error(kUsage) beside --shelf.
std::optional<std::string> chosen_disk(const Args& args);

// NAME or --shelf DIR, with the keys where they can be had.
ReadOptions read_options(const Context& context, const Args& args, const std::string& usage,
                         bool need_content);

}  // namespace kestrum::cli
