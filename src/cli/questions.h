// Asking on a terminal.
#pragma once

#include <string>
#include <vector>

#include "context.h"

namespace kestrum::cli {

// Whether somebody is there to answer: a terminal on both ends, and neither --json nor --yes.
bool can_ask(const Context& context);

// The answer, trimmed; `fallback` for an empty one. Throws Error(kStopped) at the end of input.
std::string ask(const std::string& question, const std::string& fallback = "");
// The fallback is the answer in capitals.
bool ask_yes(const std::string& question, bool fallback);
// One of several, by its number or its word.
std::size_t ask_choice(const std::string& question, const std::vector<std::string>& choices,
                       std::size_t fallback);

}  // namespace kestrum::cli
