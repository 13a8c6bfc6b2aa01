// The arguments of one command, parsed by its table of options.
#pragma once

#include <map>
#include <optional>
#include <string>
#include <vector>

namespace kestrum::cli {

struct OptionSpec {
  std::string name;   // without the dashes
  std::string value;  // what stands for its value in help, such as "DIR"; empty for a switch
  std::string help;
  bool repeats = false;
};

// The options that every command takes.
const std::vector<OptionSpec>& common_options();

class Args {
 public:
  // Throws Error(kUsage) naming the nearest option for an unknown one.
  static Args parse(const std::string& command, const std::vector<OptionSpec>& options,
                    const std::vector<std::string>& words);

  bool has(const std::string& name) const { return values_.contains(name); }
  std::optional<std::string> get(const std::string& name) const;  // the last one given
  // Throws Error(kUsage) unless what is given is a number from `least` to `most`.
  std::optional<unsigned> number(const std::string& name, unsigned least, unsigned most) const;
  std::vector<std::string> list(const std::string& name) const;
  const std::vector<std::string>& positional() const { return positional_; }
  // The same with a job's name as the one word, and without --all.
  Args with_job(const std::string& name) const;
  // Throws Error(kUsage) unless there are so many words.
  void expect(std::size_t least, std::size_t most, const std::string& usage) const;

 private:
  std::map<std::string, std::vector<std::string>> values_;
  std::vector<std::string> positional_;
};

}  // namespace kestrum::cli
