// Text inside SVG and HTML.
#pragma once

#include <string>
#include <string_view>

namespace kestrum {

// With control characters escaped and the characters of markup replaced.
std::string markup_escaped(const std::string& text);
// Puts `with` in place of each `what`; what was put in is not looked at again.
void replace_each(std::string& text, std::string_view what, std::string_view with);

}  // namespace kestrum
