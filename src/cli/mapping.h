// --map OLD=NEW
#pragma once

#include <string>
#include <utility>

namespace kestrum::cli {

// Both absolute folders; throws Error(kUsage).
std::pair<std::string, std::string> parse_mapping(const std::string& text);

}  // namespace kestrum::cli
