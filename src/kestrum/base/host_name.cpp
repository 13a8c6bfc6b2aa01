#include "kestrum/base/host_name.h"

#include <unistd.h>

#include <algorithm>
#include <cstdlib>

namespace kestrum {

namespace {

constexpr std::size_t kLongestHost = 64;

bool is_plain(char c) {
  return (c >= 'a' && c <= 'z') || (c >= 'A' && c <= 'Z') || (c >= '0' && c <= '9') || c == '-' ||
         c == '_' || c == '.';
}

}  // namespace

bool is_host_name(std::string_view text) {
  return !text.empty() && text.size() <= kLongestHost && text.front() != '.' &&
         text.back() != '.' && std::all_of(text.begin(), text.end(), is_plain);
}

std::string host_name() {
  std::string name;
  if (const char* given = std::getenv("KESTRUM_HOST"); given != nullptr) name = given;
  if (name.empty()) {
    char buffer[256] = {};
    ::gethostname(buffer, sizeof buffer - 1);
    name = buffer;
  }
  for (char& c : name) {
    if (!is_plain(c)) c = '_';
  }
  name = name.substr(0, kLongestHost);
  while (!name.empty() && name.back() == '.') name.pop_back();
  if (name.starts_with('.')) name[0] = '_';
  return name.empty() ? "this-pc" : name;
}

bool is_this_machine(std::string_view host) {
  return host == "localhost" || host == "::1" || host.starts_with("127.");
}

}  // namespace kestrum
