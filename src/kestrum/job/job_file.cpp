#include "kestrum/job/job_file.h"

#include <fmt/format.h>
#include <toml++/toml.h>

#include <algorithm>
#include <array>
#include <set>

#include "kestrum/base/error.h"
#include "kestrum/base/text.h"
#include "kestrum/job/job_setters.h"
#include "kestrum/job/unwise_rules.h"

namespace kestrum {
namespace {

// What a key that had another name once is called.
std::optional<std::string> renamed_key(const std::string& id) {
  static const std::map<std::string, std::string> kNow = {
      {"commands.before", "before_run.command"},
      {"commands.after", "after_run.command"},
      {"commands.time_limit", "time_limit of before_run and after_run"},
      {"protection.passphrase_file", "protection.passphrase_from"}};
  auto found = kNow.find(id);
  return found == kNow.end() ? std::nullopt : std::optional(found->second);
}

// The parser goes as deep as the dots of a key say, and a copy of a job may be anybody's: the line
// that has more than any job needs; 0 if none has.
int overlong_key(std::string_view text) {
  constexpr int kMostDots = 1000;
  int line = 1, dots = 0;
  for (char c : text) {
    if (c == '\n') {
      ++line;
      dots = 0;
    } else if (c == '.' && ++dots > kMostDots) {
      return line;
    }
  }
  return 0;
}

// A node as a value of the same type as `like`; nothing if it is of another.
std::optional<KeyValue> value_like(const toml::node& node, const KeyValue& like) {
  if (std::holds_alternative<std::string>(like)) {
    if (auto text = node.value_exact<std::string>()) return KeyValue(*text);
  } else if (std::holds_alternative<bool>(like)) {
    if (auto flag = node.value_exact<bool>()) return KeyValue(*flag);
  } else if (std::holds_alternative<std::int64_t>(like)) {
    if (auto number = node.value_exact<std::int64_t>()) return KeyValue(*number);
  } else if (const toml::array* array = node.as_array()) {
    std::vector<std::string> list;
    for (const toml::node& element : *array) {
      auto text = element.value_exact<std::string>();
      if (!text) return std::nullopt;
      list.push_back(*text);
    }
    return KeyValue(list);
  }
  return std::nullopt;
}

const char* type_in_words(const KeyValue& like) {
  constexpr std::array<const char*, 4> kWords = {"a text in quotes", "a list of texts",
                                                 "true or false", "a whole number"};
  return kWords[like.index()];
}

std::string toml_string(const std::string& text) {
  std::string out = "\"";
  for (char c : with_escaped_bytes(text)) {
    if (c == '"' || c == '\\') {
      out += '\\';
      out += c;
    } else if (static_cast<unsigned char>(c) < 0x20 || c == 0x7f) {
      out += fmt::format("\\u{:04x}", static_cast<unsigned>(c));
    } else {
      out += c;
    }
  }
  return out + "\"";
}

}  // namespace

bool ParsedJob::usable() const {
  return std::none_of(problems.begin(), problems.end(),
                      [](const JobProblem& p) { return p.error; });
}

std::string toml_text(const KeyValue& value) {
  if (const auto* text = std::get_if<std::string>(&value)) return toml_string(*text);
  if (const auto* flag = std::get_if<bool>(&value)) return *flag ? "true" : "false";
  if (const auto* number = std::get_if<std::int64_t>(&value)) return std::to_string(*number);
  std::string out = "[";
  for (const auto& text : std::get<std::vector<std::string>>(value)) {
    out += (out.size() > 1 ? ", " : "") + toml_string(text);
  }
  return out + "]";
}

ParsedJob parse_job(const std::string& name, const std::string& toml_source) {
  ParsedJob parsed;
  Job& job = parsed.job;
  job.name = name;
  for (const JobKey& key : job_keys()) job.values[key.id()] = key.default_value;

  if (int line = overlong_key(toml_source); line > 0) {
    parsed.problems.push_back({true, "", line, "more than 1,000 dots in one line"});
    return parsed;
  }
  toml::table root;
  try {
    root = toml::parse(toml_source);
  } catch (const toml::parse_error& error) {
    parsed.problems.push_back(
        {true, "", static_cast<int>(error.source().begin.line), std::string(error.description())});
    return parsed;
  }

  std::map<std::string, int> lines;
  auto take = [&](const std::string& section, const toml::key& key_name, const toml::node& node) {
    int line = static_cast<int>(key_name.source().begin.line);
    std::string bare(key_name.str());
    std::string id = section.empty() ? bare : section + "." + bare;
    // By section and name, not by what they read like together: a quoted key may hold a dot.
    auto key = std::find_if(job_keys().begin(), job_keys().end(), [&](const JobKey& k) {
      return k.section == section && k.name == bare;
    });
    if (key == job_keys().end()) {
      std::vector<std::string> known;
      for (const JobKey& k : job_keys()) known.push_back(k.id());
      auto near = nearest_word(id, known);
      std::string text = near ? "unknown key; did you mean " + *near + "?" : "unknown key";
      if (auto now = renamed_key(id)) text = "unknown key; it is " + *now + " now";
      if (near == id) text = "a key of a section stands in it, not in quotes outside";
      parsed.problems.push_back({false, id, line, text, true, true});
      return;
    }
    auto value = value_like(node, key->default_value);
    if (!value) {
      parsed.problems.push_back(
          {true, id, line, std::string("must be ") + type_in_words(key->default_value)});
      return;
    }
    job.values[id] = *value;
    lines[id] = line;
  };
  std::set<std::string> sections;
  for (const JobKey& key : job_keys()) {
    if (!key.section.empty()) sections.insert(key.section);
  }
  auto unknown_section = [&](const toml::key& outer, const toml::table& table) {
    std::string section(outer.str());
    auto near = nearest_word(section, {sections.begin(), sections.end()});
    std::string text = near ? "unknown section; did you mean [" + *near + "]?" : "unknown section";
    for (const auto& [inner, node] : table) {
      if (auto now = renamed_key(section + "." + std::string(inner.str()))) {
        text = "unknown section; " + std::string(inner.str()) + " is " + *now + " now";
        break;
      }
    }
    int line = static_cast<int>(outer.source().begin.line);
    parsed.problems.push_back({false, section, line, text, true, true});
  };
  for (const auto& [outer, node] : root) {
    const toml::table* table = node.as_table();
    if (table != nullptr && sections.contains(std::string(outer.str()))) {
      for (const auto& [inner, inner_node] : *table) {
        take(std::string(outer.str()), inner, inner_node);
      }
    } else if (table != nullptr) {
      unknown_section(outer, *table);
    } else {
      take("", outer, node);
    }
  }

  for (const JobKey& key : job_keys()) {
    auto setter = job_setters().find(key.id());
    if (setter == job_setters().end()) continue;
    std::optional<std::string> problem;
    try {
      problem = setter->second(job, job.values[key.id()]);
    } catch (const Error& error) {
      problem = error.message() + (error.hint().empty() ? "" : " (" + error.hint() + ")");
    }
    if (problem) parsed.problems.push_back({true, key.id(), lines[key.id()], *problem});
  }
  if (!job.copies.when.empty() && job.copies.to.empty()) {
    parsed.problems.push_back({false, "copies.when", lines["copies.when"],
                               "nothing acts on this key: copies.to names no place", true});
  }
  if (parsed.usable()) {
    for (JobProblem problem : unwise_rules(job)) {
      problem.line = lines[problem.key];
      parsed.problems.push_back(std::move(problem));
    }
  }
  std::stable_sort(parsed.problems.begin(), parsed.problems.end(),
                   [](const JobProblem& a, const JobProblem& b) { return a.error > b.error; });
  return parsed;
}

std::string render_job(const std::map<std::string, KeyValue>& values) {
  std::string out, section;
  for (const JobKey& key : job_keys()) {
    auto it = values.find(key.id());
    const KeyValue& value = it == values.end() ? key.default_value : it->second;
    bool always = key.id() == "format";
    if (!always && value == key.default_value) continue;
    if (key.section != section) {
      section = key.section;
      out += "\n[" + section + "]\n";
    }
    out += key.name + " = " + toml_text(value) + "\n";
  }
  return out;
}

}  // namespace kestrum
