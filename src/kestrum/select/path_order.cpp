#include "kestrum/select/path_order.h"

#include <algorithm>

namespace kestrum {

int compare_paths(std::string_view a, std::string_view b) {
  std::size_t n = std::min(a.size(), b.size());
  for (std::size_t i = 0; i < n; ++i) {
    if (a[i] == b[i]) continue;
    auto rank = [](char c) {
      return c == '/' ? 0 : static_cast<int>(static_cast<unsigned char>(c));
    };
    return rank(a[i]) - rank(b[i]);
  }
  return a.size() < b.size() ? -1 : a.size() > b.size() ? 1 : 0;
}

std::string path_key(std::string_view path) {
  std::string key(path);
  std::replace(key.begin(), key.end(), '/', '\0');
  return key;
}

std::string path_from_key(std::string_view key) {
  std::string path;
  path_from_key(key, path);
  return path;
}

void path_from_key(std::string_view key, std::string& path) {
  path = key;
  std::replace(path.begin(), path.end(), '\0', '/');
}

unsigned components_of(std::string_view path) {
  unsigned count = 0;
  for (std::size_t at = 0; at < path.size(); ++at) {
    count += path[at] != '/' && (at == 0 || path[at - 1] == '/');
  }
  return count;
}

std::string_view first_components(std::string_view path, unsigned count) {
  std::size_t end = 0;
  for (; count > 0 && end < path.size(); --count) {
    end = path.find('/', end + (end == 0 && path[0] != '/' ? 0 : 1));
    if (end == std::string_view::npos) return path;
  }
  return path.substr(0, end);
}

}  // namespace kestrum
