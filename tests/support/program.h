// Running programs: the built one with a home of its own, and the standard tools.
#pragma once

#include <functional>
#include <map>
#include <set>
#include <string>
#include <vector>

#include "kestrum/base/json.h"
#include "support/temp_folder.h"

namespace kestrum::test {

struct Ran {
  int exit = -1;
  std::string out, err;
};

using Environment = std::map<std::string, std::string>;

// Runs a program found by PATH; `input` goes to its standard input.
Ran run_program(const std::vector<std::string>& argv, const Environment& environment = {},
                const std::string& input = "");
// Runs a shell script by bash -euo pipefail.
Ran run_script(const std::string& script, const Environment& environment = {});
// Runs a script on a terminal of its own and types `typed` once it asks for a passphrase.
Ran run_on_terminal(const std::string& script, const std::string& typed,
                    const Environment& environment = {});
// Runs a script on a terminal of its own; each time it has printed the first text of a pair since
// the last answer, types the second and a newline. Questions that are never asked are named in
// `err`.
struct Turn {
  std::string asked, answer;
  std::function<void()> before = {};  // done once it is asked, before the answer
};
Ran run_dialogue(const std::string& script, const std::vector<Turn>& turns,
                 const Environment& environment = {});
bool have_program(const std::string& name);
inline std::string shell_quoted(const std::string& text) {
  std::string out = "'";
  for (char c : text) out += c == '\'' ? std::string("'\\''") : std::string(1, c);
  return out + "'";
}

// A program that runs beside the test; ended with SIGKILL if it is still there at the end.
class Background {
 public:
  Background(const std::vector<std::string>& argv, const Environment& environment);
  ~Background();
  void signal(int number) const;
  Ran wait();  // for its end
  bool has_ended() const;
  int process() const { return pid_; }
  std::string output() const;  // so far, both streams

 private:
  TempFolder files_;
  int pid_ = -1;
  bool ended_ = false;
};

// Whether `condition` comes true within so many seconds; looks ten times a second.
bool eventually(const std::function<bool()>& condition, int seconds = 30);

// The built program in a home, with folders for a source and a disk.
class Desk {
 public:
  explicit Desk(std::string host = "test-pc");

  // kestrum with these words. A passphrase is in the environment unless it is emptied.
  Ran kestrum(const std::vector<std::string>& words);
  // The same with --json; fails the test if the answer is not one JSON document.
  Json json(const std::vector<std::string>& words, int expected_exit = 0);
  // Defines a job named "desk" that copies source() to disk().
  void define(const std::vector<std::string>& more = {});
  std::string source() const { return folder / "source"; }
  std::string disk() const { return folder / "disk"; }
  std::string shelf() const { return disk() + "/" + host_ + "/desk"; }
  // Removes what this PC remembers of the sets of its shelves.
  void lose_index();
  // A copy of it that can be opened while a run is at work; the path of its database.
  std::string copy_index();
  // The names of the job's sets; fails the test if one is damaged.
  std::set<std::string> sets();
  // The folder of a set such as "c1-0".
  std::string set_folder(const std::string& set) const;

  // The program's clock: 21:00 on the day so many after 1 March 2026.
  void on_day(int day);

  TempFolder folder;
  Environment environment;
  // From now on kestrum() runs as the user nobody, from a copy of the program that nobody can
  // reach, and all that is there is theirs. Needs root and setpriv.
  void become_nobody();
  void give_to_nobody();

  // What kestrum() runs: the built program, by way of another one such as setpriv.
  std::vector<std::string> program = {KESTRUM_PROGRAM};

 private:
  std::string host_;
};

}  // namespace kestrum::test
