#include "file_filter.h"

#include "kestrum/base/error.h"
#include "kestrum/base/text.h"
#include "kestrum/base/units.h"
#include "kestrum/chain/moment.h"

namespace kestrum::cli {
namespace {

std::optional<Nanos> time_option(const Args& args, const char* name, Nanos now) {
  auto text = args.get(name);
  if (!text) return std::nullopt;
  auto time = parse_beginning(*text, now);
  if (time) return time;
  throw Error(ErrorKind::kUsage,
              std::string("--") + name + ": not a time: \"" + printable(*text) + "\"",
              "such as 2026-03-14, \"2026-03-14 21:00\", 2026-03, yesterday, \"3 days ago\"");
}

std::optional<std::uint64_t> size_option(const Args& args, const char* name) {
  auto text = args.get(name);
  if (!text) return std::nullopt;
  auto size = parse_size(*text);
  if (size) return size;
  throw Error(ErrorKind::kUsage,
              std::string("--") + name + ": not a size: \"" + printable(*text) + "\"",
              "such as 650 MB");
}

}  // namespace

const std::vector<OptionSpec>& filter_options() {
  static const std::vector<OptionSpec> kOptions = {
      {"changed-after", "TIME", "files changed at that time or later"},
      {"changed-before", "TIME", "files changed before that time"},
      {"bigger-than", "SIZE", "files bigger than this"},
      {"smaller-than", "SIZE", "files smaller than this"},
      {"gone", "", "files that are not at the newest restore point"},
      {"only", "CATEGORY", "of a category, or a pattern such as '*.dwg'", true}};
  return kOptions;
}

FileFilter::FileFilter(const Args& args, Nanos now)
    : after_(time_option(args, "changed-after", now)),
      before_(time_option(args, "changed-before", now)),
      bigger_(size_option(args, "bigger-than")),
      smaller_(size_option(args, "smaller-than")),
      only_(args.list("only")),
      gone_(args.has("gone")) {
  for (const OptionSpec& option : filter_options()) active_ |= args.has(option.name);
}

bool FileFilter::takes(std::string_view path, std::uint64_t size, Nanos modified) const {
  if (after_ && modified < *after_) return false;
  if (before_ && modified >= *before_) return false;
  if (bigger_ && size <= *bigger_) return false;
  if (smaller_ && size >= *smaller_) return false;
  return only_.takes(path);
}

}  // namespace kestrum::cli
