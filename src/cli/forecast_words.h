// A forecast on the terminal.
#pragma once

#include <string>

#include "context.h"
#include "kestrum/inspect/forecast.h"

namespace kestrum::cli {

void print_forecast(const Context& context, const std::string& job, const Forecast& forecast);

}  // namespace kestrum::cli
