#include "kestrum/base/shell_word.h"

#include "kestrum/base/text.h"

namespace kestrum {

std::string shell_word(const std::string& text) {
  bool plain = text.find_first_not_of(
                   "abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ0123456789/._-=+:,@") ==
               std::string::npos;
  if (plain && !text.empty()) return text;
  std::string shown = printable(text);
  bool escaped = shown != text;
  std::string out = escaped ? "$'" : "'";
  for (std::size_t i = 0; i < text.size() && !escaped; ++i) {
    out += text[i] == '\'' ? std::string("'\\''") : std::string(1, text[i]);
  }
  // What printable() wrote of control characters is what $'...' reads; a backslash of the name's
  // own would be taken for one of those, so such a name is written byte by byte.
  bool ambiguous = escaped && text.find('\\') != std::string::npos;
  for (std::size_t i = 0; escaped && !ambiguous && i < shown.size(); ++i) {
    out += shown[i] == '\'' ? std::string("\\'") : std::string(1, shown[i]);
  }
  static constexpr char kDigits[] = "0123456789abcdef";
  for (std::size_t i = 0; ambiguous && i < text.size(); ++i) {
    auto byte = static_cast<unsigned char>(text[i]);
    out += {'\\', 'x', kDigits[byte >> 4], kDigits[byte & 15]};
  }
  return out + "'";
}

}  // namespace kestrum
