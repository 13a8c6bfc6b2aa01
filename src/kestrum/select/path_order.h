// The order of paths, everywhere: bytes compared with '/' taken as 0x00, so that a folder is
// followed at once by what is in it: "a", "a/x", "a-b".
#pragma once

#include <string>
#include <string_view>

namespace kestrum {

// Negative, zero or positive, as a comes before, equals or comes behind b.
int compare_paths(std::string_view a, std::string_view b);

// The path with '/' mapped to 0x00: memcmp of two keys is compare_paths. A path holds no 0x00.
std::string path_key(std::string_view path);
std::string path_from_key(std::string_view key);
// The same into `path`, whose room is used again.
void path_from_key(std::string_view key, std::string& path);

// How many names a path has, relative or absolute: 0 for "" and "/".
unsigned components_of(std::string_view path);
// The first so many of them; nothing more than there are.
std::string_view first_components(std::string_view path, unsigned count);

}  // namespace kestrum
