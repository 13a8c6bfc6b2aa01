#include "kestrum/place/mounts.h"

#include <algorithm>

#include "kestrum/base/error.h"
#include "kestrum/base/file.h"
#include "kestrum/base/text.h"

namespace kestrum {
namespace {

// Spaces, tabs, newlines and backslashes are octal escapes.
std::string unescaped(const std::string& text) {
  std::string out;
  for (std::size_t i = 0; i < text.size(); ++i) {
    auto octal = [&](std::size_t at) {
      return at < text.size() && text[at] >= '0' && text[at] <= '7';
    };
    if (text[i] == '\\' && octal(i + 1) && octal(i + 2) && octal(i + 3)) {
      out += static_cast<char>((text[i + 1] - '0') * 64 + (text[i + 2] - '0') * 8 +
                               (text[i + 3] - '0'));
      i += 3;
    } else {
      out += text[i];
    }
  }
  return out;
}

bool is_systems_own(const std::string& folder) {
  for (const char* own :
       {"/boot", "/snap", "/var/lib", "/run/user", "/proc", "/sys", "/dev", "/etc", "/usr"}) {
    if (is_within(folder, own)) return true;
  }
  return folder == "/";
}

}  // namespace

std::vector<MountedDisk> disks_in(std::string_view mountinfo) {
  std::vector<MountedDisk> disks;
  for (const auto& line : split(mountinfo, '\n')) {
    std::vector<std::string> words = split(line, ' ');
    auto dash = std::find(words.begin(), words.end(), "-");
    if (words.size() < 10 || words.end() - dash < 3) continue;
    std::string root = words[3], folder = unescaped(words[4]), type = *(dash + 1);
    std::string source = unescaped(*(dash + 2));
    bool device = source.starts_with("/dev/");
    bool share = source.find(":/") != std::string::npos || source.starts_with("//");
    bool read_only = words[5] == "ro" || words[5].starts_with("ro,");
    if ((!device && !share) || read_only || root != "/" || type == "squashfs" ||
        is_systems_own(folder)) {
      continue;
    }
    disks.push_back({folder, type, share});
  }
  return disks;
}

std::vector<MountedDisk> mounted_disks() {
  try {
    return disks_in(read_file("/proc/self/mountinfo"));
  } catch (const Error&) {
    return {};
  }
}

}  // namespace kestrum
