// Text inside SVG and HTML.
#pragma once

#include <string>

namespace kestrum {

// With control characters escaped and the characters of markup replaced.
std::string markup_escaped(const std::string& text);

}  // namespace kestrum
