// What a shell may complete a word to.
#pragma once

#include <string>
#include <vector>

namespace kestrum::cli {

// Candidates for the last of `words`, those behind "kestrum" so far; not sorted, unquoted. Never
// throws: a shell that asks must not be disturbed.
std::vector<std::string> completions(const std::vector<std::string>& words);

}  // namespace kestrum::cli
