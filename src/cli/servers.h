// How this process reaches servers that have places.
#pragma once

#include "context.h"

namespace kestrum::cli {

// For a command, by its name: its settings, how long it tries again, whom it tells.
void reach_servers_for(const Context& context, const std::string& command);

// From now on an unknown host key is shown on a terminal, and somebody asked whether it is the
// right one.
void ask_about_host_keys(const Context& context);

}  // namespace kestrum::cli
