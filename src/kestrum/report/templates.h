// The templates of figures and pages, which are part of the program.
#pragma once

#include <string_view>

namespace kestrum {

// The text of src/kestrum/report/templates/<name>; empty if there is none.
std::string_view template_text(std::string_view name);

}  // namespace kestrum
