// What is asked of the shelves of many PCs.
#pragma once

#include "args.h"
#include "context.h"
#include "kestrum/inspect/fleet.h"

namespace kestrum::cli {

// --shelves and --expect. Throws Error(kUsage).
FleetRequest fleet_request(const Context& context, const Args& args);

}  // namespace kestrum::cli
