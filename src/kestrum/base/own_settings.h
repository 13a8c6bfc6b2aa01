// Settings of this PC that nobody else may read: a TOML file, 0600.
#pragma once

#include <toml++/toml.h>

#include <optional>
#include <string>
#include <utility>
#include <vector>

namespace kestrum {

// Throws Error(kUsage) naming the file.
[[noreturn]] void refuse_settings(const std::string& path, const std::string& what,
                                  const std::string& hint = "");

// Nothing if there is no such file. Throws Error(kUsage) naming it, and the line, for what is
// wrong, also if others can read it.
std::optional<toml::table> read_own_settings(const std::string& path);

// Texts by their keys, read into what stands beside them; what is not there stays as it is.
// `before` goes before their names. Throws Error(kUsage) for other keys, and for what is no text.
using SettingsKeys = std::vector<std::pair<std::string, std::string*>>;
void read_settings(const toml::table& table, const std::string& path, const std::string& before,
                   const SettingsKeys& keys);

}  // namespace kestrum
