#include "kestrum/select/only.h"

#include <algorithm>

#include "kestrum/base/error.h"
#include "kestrum/base/file.h"
#include "kestrum/base/text.h"
#include "kestrum/select/litter.h"

namespace kestrum {
namespace {

bool is_pattern(std::string_view kind) {
  return kind.find_first_of("*?[./") != std::string_view::npos;
}

std::vector<std::string> patterns_of(const std::vector<std::string>& kinds) {
  std::vector<std::string> patterns;
  std::copy_if(kinds.begin(), kinds.end(), std::back_inserter(patterns), is_pattern);
  return patterns;
}

}  // namespace

Only::Only(const std::vector<std::string>& kinds) : patterns_(patterns_of(kinds)) {
  for (const auto& kind : kinds) {
    if (is_pattern(kind)) continue;
    const auto& all = file_categories();
    auto it = std::find_if(all.begin(), all.end(), [&](const auto& c) { return c.name == kind; });
    if (it == all.end()) {
      std::vector<std::string> names;
      for (const auto& category : all) names.push_back(category.name);
      auto near = nearest_word(kind, names);
      throw Error(ErrorKind::kUsage, "only: unknown category \"" + printable(kind) + "\"",
                  near ? "did you mean \"" + *near + "\"?"
                       : "a pattern such as \"*.dwg\", or a category: kestrum job categories");
    }
    extensions_.insert(it->extensions.begin(), it->extensions.end());
  }
}

bool Only::takes(std::string_view path) const {
  if (extensions_.empty() && patterns_.empty()) return true;
  std::string name = base_name(path);
  std::size_t dot = name.rfind('.');
  if (dot != std::string::npos && dot > 0 &&
      extensions_.contains(lower_ascii(std::string_view(name).substr(dot + 1)))) {
    return true;
  }
  return !patterns_.empty() && patterns_.match(path).has_value();
}

}  // namespace kestrum
