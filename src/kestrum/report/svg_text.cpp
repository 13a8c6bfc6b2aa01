#include "kestrum/report/svg_text.h"

#include "kestrum/base/text.h"

namespace kestrum {

std::string markup_escaped(const std::string& text) {
  std::string out;
  for (char c : printable(text)) {
    if (c == '&')
      out += "&amp;";
    else if (c == '<')
      out += "&lt;";
    else if (c == '>')
      out += "&gt;";
    else if (c == '"')
      out += "&quot;";
    else
      out += c;
  }
  return out;
}

void replace_each(std::string& text, std::string_view what, std::string_view with) {
  for (std::size_t at = 0; (at = text.find(what, at)) != std::string::npos; at += with.size()) {
    text.replace(at, what.size(), with);
  }
}

}  // namespace kestrum
