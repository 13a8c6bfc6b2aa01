// The keys that a job file may hold.
#pragma once

#include <cstdint>
#include <string>
#include <variant>
#include <vector>

namespace kestrum {

// A value as the file has it.
using KeyValue = std::variant<std::string, std::vector<std::string>, bool, std::int64_t>;

// One key that a job file may hold.
struct JobKey {
  std::string section, name;  // section is empty for the keys at the top
  KeyValue default_value;
  std::string comment;

  std::string id() const { return section.empty() ? name : section + "." + name; }
};
const std::vector<JobKey>& job_keys();

// A value in TOML: "text", ["a", "b"], true, 200.
std::string toml_text(const KeyValue& value);

}  // namespace kestrum
