#include "kestrum/base/shell_word.h"

#include <fmt/format.h>

#include "kestrum/base/text.h"

namespace kestrum {
namespace {

std::string with_quotes_as(const std::string& text, const std::string& quote) {
  std::string out;
  for (char c : text) out += c == '\'' ? quote : std::string(1, c);
  return out;
}

std::string byte_by_byte(const std::string& text) {
  std::string out;
  for (char c : text) out += fmt::format("\\x{:02x}", static_cast<unsigned char>(c));
  return out;
}

}  // namespace

std::string shell_word(const std::string& text) {
  bool plain = text.find_first_not_of(
                   "abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ0123456789/._-=+:,@") ==
               std::string::npos;
  if (plain && !text.empty()) return text;
  std::string shown = printable(text);
  if (shown == text) return "'" + with_quotes_as(text, "'\\''") + "'";
  // What printable() writes of control characters is what $'...' reads, but a backslash of the
  // name's own would be taken for one of those.
  bool ambiguous = text.find('\\') != std::string::npos;
  return "$'" + (ambiguous ? byte_by_byte(text) : with_quotes_as(shown, "\\'")) + "'";
}

std::string shell_option(const std::string& name, const std::string& value) {
  return value.empty() ? "" : " --" + name + " " + shell_word(value);
}

}  // namespace kestrum
