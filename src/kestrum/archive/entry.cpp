#include "kestrum/archive/entry.h"

#include <array>

namespace kestrum {
namespace {

constexpr std::array<const char*, 8> kTypeNames = {"file", "folder", "link", "hardlink",
                                                   "fifo", "device", "gone", "left_out"};

}  // namespace

const char* type_name(EntryType type) {
  return kTypeNames[static_cast<std::size_t>(type)];
}

bool parse_type(const std::string& name, EntryType& type) {
  for (std::size_t i = 0; i < kTypeNames.size(); ++i) {
    auto found = static_cast<EntryType>(i);
    if (name != kTypeNames[i] || found == EntryType::kHardlink) continue;
    type = found;
    return true;
  }
  return false;
}

}  // namespace kestrum
