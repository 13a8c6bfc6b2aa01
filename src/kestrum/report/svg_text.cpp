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

}  // namespace kestrum
