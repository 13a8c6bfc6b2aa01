// What nobody wants back, and the file categories of `only`.
#pragma once

#include <string>
#include <vector>

namespace kestrum {

// Patterns of caches, trash, temporary files and editor leftovers.
const std::vector<std::string>& litter_patterns();

// Whether the open folder holds a CACHEDIR.TAG with the signature of the Cache Directory Tagging
// Specification.
bool has_cache_tag(int folder_fd);

struct FileCategory {
  std::string name;                     // "documents"
  std::vector<std::string> extensions;  // lower case, without the dot
};
const std::vector<FileCategory>& file_categories();

}  // namespace kestrum
