// Words of a command that somebody pastes into a shell.
#pragma once

#include <string>

namespace kestrum {

// `text` as it is, or in quotes where a shell would take it apart; control characters and what is
// not UTF-8 in the form $'...' that bash and others read.
std::string shell_word(const std::string& text);

// " --on red" to stand behind a command; nothing for an empty value.
std::string shell_option(const std::string& name, const std::string& value);

}  // namespace kestrum
