#include "left_out_words.h"

#include <fmt/format.h>

#include "kestrum/base/units.h"

namespace kestrum::cli {

std::string left_out_words(const std::array<RuleCount, kRules>& left_out) {
  RuleCount all;
  std::string rules;
  for (std::size_t i = 0; i < kRules; ++i) {
    const RuleCount& count = left_out[i];
    if (count.files + count.folders == 0) continue;
    all.files += count.files;
    all.folders += count.folders;
    all.bytes += count.bytes;
    std::string what = count.files > 0 ? format_count(count.files) : "";
    if (count.folders > 0) {
      what += (what.empty() ? "" : " and ") + counted(count.folders, "folder");
    }
    rules +=
        fmt::format("{}{}: {}", rules.empty() ? "" : ", ", rule_name(static_cast<Rule>(i)), what);
  }
  if (rules.empty()) return "";
  std::string sum = all.files > 0 ? counted(all.files, "file") : "";
  if (all.folders > 0) sum += (sum.empty() ? "" : " and ") + counted(all.folders, "folder");
  return fmt::format("left out: {}, {} ({})", sum, format_size(all.bytes), rules);
}

}  // namespace kestrum::cli
