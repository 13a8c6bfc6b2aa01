#include "kestrum/base/host_name.h"

#include <unistd.h>

#include <cstdlib>

namespace kestrum {

std::string host_name() {
  std::string name;
  if (const char* given = std::getenv("KESTRUM_HOST"); given != nullptr) name = given;
  if (name.empty()) {
    char buffer[256] = {};
    ::gethostname(buffer, sizeof buffer - 1);
    name = buffer;
  }
  for (char& c : name) {
    bool plain = (c >= 'a' && c <= 'z') || (c >= 'A' && c <= 'Z') || (c >= '0' && c <= '9') ||
                 c == '-' || c == '_' || c == '.';
    if (!plain) c = '_';
  }
  while (!name.empty() && name.back() == '.') name.pop_back();
  return name.empty() ? "this-pc" : name.substr(0, 64);
}

}  // namespace kestrum
