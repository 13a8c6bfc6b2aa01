// Changing the text of one key of a job file, so that comments and order survive.
#include "kestrum/job/edit_key.h"

#include <fmt/format.h>
#include <toml++/toml.h>

#include <algorithm>

#include "kestrum/base/error.h"

namespace kestrum {
namespace {

// Where a line and a column (from 1, columns in bytes or characters of ASCII) lie in the text.
std::size_t offset_of(const std::string& text, const toml::source_position& position) {
  std::size_t at = 0;
  for (toml::source_index line = 1; line < position.line; ++line) {
    std::size_t end = text.find('\n', at);
    if (end == std::string::npos) return text.size();
    at = end + 1;
  }
  // Columns count characters, not bytes.
  for (toml::source_index column = 1; column < position.column && at < text.size(); ++column) {
    ++at;
    while (at < text.size() && (static_cast<unsigned char>(text[at]) & 0xc0) == 0x80) ++at;
  }
  return at;
}

}  // namespace

std::string edit_key(const std::string& text, const std::string& id, const KeyValue& value) {
  std::size_t dot = id.find('.');
  std::string section = dot == std::string::npos ? "" : id.substr(0, dot);
  std::string name = dot == std::string::npos ? id : id.substr(dot + 1);
  toml::table root;
  try {
    root = toml::parse(text);
  } catch (const toml::parse_error& error) {
    throw Error(ErrorKind::kUsage,
                "the job file cannot be read: " + std::string(error.description()));
  }
  const toml::table* table = section.empty() ? &root : root[section].as_table();
  if (table != nullptr) {
    if (const toml::node* node = table->get(name)) {
      std::size_t begin = offset_of(text, node->source().begin);
      std::size_t end = offset_of(text, node->source().end);
      return text.substr(0, begin) + toml_text(value) + text.substr(end);
    }
  }
  std::string line = name + " = " + toml_text(value) + "\n";
  if (section.empty()) return line + text;
  if (table == nullptr) return text + "\n[" + section + "]\n" + line;
  std::size_t header = offset_of(text, table->source().begin);
  std::size_t end = text.find('\n', header);
  if (end == std::string::npos) return text + "\n" + line;
  return text.substr(0, end + 1) + line + text.substr(end + 1);
}

}  // namespace kestrum
