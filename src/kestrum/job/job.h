// A job: which folders, where to, when, what kind of chain, how long to keep. One TOML file.
#pragma once

#include <map>
#include <optional>
#include <string>
#include <variant>
#include <vector>

#include "kestrum/archive/frames.h"
#include "kestrum/archive/set_writer.h"
#include "kestrum/base/error.h"
#include "kestrum/chain/next_kind.h"
#include "kestrum/chain/retention.h"
#include "kestrum/crypto/age_keys.h"
#include "kestrum/schedule/phrase.h"
#include "kestrum/select/selection.h"

namespace kestrum {

// A value as the file has it.
using KeyValue = std::variant<std::string, std::vector<std::string>, bool, std::int64_t>;

// What may be removed without anybody being asked.
enum class WhenFull { kStop, kPrune, kPruneDeeper };

struct Job {
  std::string name;
  std::string title;

  std::vector<std::string> folders;  // absolute; may hold patterns
  SelectionRules rules;

  std::vector<std::string> places;  // absolute folders
  std::uint64_t part_size = 1'000'000'000;

  SetKind follows_full = SetKind::kIncremental;
  NewFullRule new_full;

  CompressionLevel level = CompressionLevel::kNormal;

  bool encrypted = true;
  std::vector<Recipient> also_for;
  std::string passphrase_file;

  KeepPolicy keep;
  std::optional<std::uint64_t> at_most;     // bytes of the shelf
  std::optional<std::uint64_t> leave_free;  // bytes of the disk, or
  unsigned leave_free_percent = 5;          // of it, if no bytes are given
  WhenFull when_full = WhenFull::kPrune;

  std::vector<Phrase> when;  // empty: by hand
  bool skip_missed = false;
  Nanos spread = 0;
  bool wait_on_battery = false;

  ReadBack verify = ReadBack::kParts;
  bool power_off = false;

  std::string before, after;  // shell commands; empty: none
  Nanos command_limit = 10 * kMinute;

  bool low_priority = true;
  std::optional<std::uint64_t> rate_limit;  // bytes a second
  std::size_t keep_records = 200;
  unsigned suspect_percent = 40;  // share of known files that may change or vanish

  // Every key of the file format by "section.key", as given or by default. Keys whose feature
  // reads nothing else from a job are kept only here.
  std::map<std::string, KeyValue> values;
};

// Something wrong, or merely unwise, in a job file.
struct JobProblem {
  bool error = true;
  std::string key;  // "source.folders", or empty
  int line = 0;     // of the file, from 1; 0 if it concerns no line
  std::string message;
  // A key that is not known, or that nothing acts on yet: an error for `job check`, a warning for a
  // run.
  bool no_effect = false;
  bool unknown_key = false;  // what has no effect because no key has this name here

  std::string text() const;  // "line 4: source.folders: ..."
};

// What can be done but will hardly be meant.
std::vector<JobProblem> unwise_rules(const Job& job);

// What a change of a job means for its chain; empty if nothing.
std::string change_in_words(const Job& before, const Job& after);

// One key that a job file may hold.
struct JobKey {
  std::string section, name;  // section is empty for the keys at the top
  KeyValue default_value;
  std::string comment;
  std::string not_yet = {};  // what does not happen although the key asks for it; empty: all does

  std::string id() const { return section.empty() ? name : section + "." + name; }
};
const std::vector<JobKey>& job_keys();

// A value in TOML: "text", ["a", "b"], true, 200.
std::string toml_text(const KeyValue& value);

struct ParsedJob {
  Job job;
  std::vector<JobProblem> problems;
  bool usable() const;  // no errors among the problems
};
// Never throws for bad content: all that is wrong is in the problems. Keys without effect are no
// errors here. A key counts in its own section alone, however it is quoted.
ParsedJob parse_job(const std::string& name, const std::string& toml);

// The text of a job file that sets `values` and leaves every other key at its default.
std::string render_job(const std::map<std::string, KeyValue>& values);

// The text of a job file with one key ("source.folders") set to `value`; comments and order stay.
// Throws Error(kUsage) if the text is not TOML.
std::string edit_key(const std::string& text, const std::string& id, const KeyValue& value);

// Why `name` cannot be a job's name; nothing if it can.
std::optional<std::string> bad_job_name(const std::string& name);

// Where jobs and the machine's state are kept.
struct Home {
  std::string config;  // jobs/ is in it
  std::string state;

  std::string jobs() const { return config + "/jobs"; }
  // --home or KESTRUM_HOME; otherwise /etc/kestrum and /var/lib/kestrum for root, the XDG folders
  // for everybody else.
  static Home find(const std::string& home_option);
  static Home usual();  // without option and variable
};

class JobStore {
 public:
  explicit JobStore(Home home) : home_(std::move(home)) {}

  std::string path(const std::string& name) const { return home_.jobs() + "/" + name + ".toml"; }
  std::vector<std::string> names() const;
  bool has(const std::string& name) const;
  // Throws Error(kUsage) naming the nearest job if there is none of this name, or naming the first
  // problem if its file cannot be used.
  Job load(const std::string& name, std::vector<JobProblem>* warnings = nullptr) const;
  ParsedJob parse(const std::string& name) const;
  // Throws Error(kUsage) if the name is taken (ignoring case) or cannot be one.
  void create(const std::string& name, const std::string& toml) const;
  void check_new_name(const std::string& name) const;

 private:
  Error unknown(const std::string& name) const;
  Home home_;
};

}  // namespace kestrum
