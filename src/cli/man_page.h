// The manual page, from the table of commands.
#pragma once

#include <string>

namespace kestrum::cli {

// kestrum(1) as source for man(7).
std::string man_page();

}  // namespace kestrum::cli
