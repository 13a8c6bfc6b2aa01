// Words that people bring from elsewhere, and ours for them.
#pragma once

#include <string>
#include <vector>

namespace kestrum::cli {

// The command that is meant by a word that is none, such as "find"; empty if none is known.
std::string other_word(const std::string& word);

// What to write for an option, without its dashes, that is not among a command's: "kind full" for
// "full", else the nearest; empty if there is none.
std::string other_option(const std::string& name, const std::vector<std::string>& known);

}  // namespace kestrum::cli
