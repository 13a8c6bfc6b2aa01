// The rules are asked in the order in which the walk asks them.
#include "kestrum/inspect/explain_path.h"

#include <fmt/format.h>
#include <sys/stat.h>

#include <algorithm>

#include "kestrum/base/file.h"
#include "kestrum/base/followed.h"
#include "kestrum/base/text.h"
#include "kestrum/base/units.h"
#include "kestrum/machine/own_folders.h"
#include "kestrum/select/litter.h"
#include "kestrum/select/selection.h"
#include "kestrum/select/source_tree.h"

namespace kestrum {
namespace {

std::string extension_of(const std::string& path) {
  std::string name = base_name(path);
  std::size_t dot = name.rfind('.');
  return dot == std::string::npos || dot == 0 ? "" : lower_ascii(name.substr(dot + 1));
}

std::string category_of(const std::string& extension) {
  for (const FileCategory& category : file_categories()) {
    const auto& list = category.extensions;
    if (std::find(list.begin(), list.end(), extension) != list.end()) return category.name;
  }
  return "";
}

std::string first_match(const std::vector<std::string>& patterns, const std::string& path) {
  PatternSet set(patterns);
  auto match = set.match(std::string_view(path).substr(1));
  return match ? patterns[*match] : "";
}

// Why a folder or file at `path` is left out on its own account; empty if it is not.
std::string reason_at(const Job& job, const Selection& selection, const std::string& root,
                      const std::string& path, const struct stat& st, dev_t device_above,
                      const SourceTree& source) {
  Rule rule = selection.by_path_below(root.substr(1), path.substr(1));
  if (rule == Rule::kLeaveOut) {
    return fmt::format("leave_out = \"{}\"", first_match(job.rules.leave_out, path));
  }
  if (rule == Rule::kLitter) {
    return fmt::format("litter \"{}\" (leave_out_litter)", first_match(litter_patterns(), path));
  }
  if (S_ISSOCK(st.st_mode)) return "it is a socket, which cannot be copied";
  if (S_ISDIR(st.st_mode)) {
    if (selection.is_own(st.st_dev, st.st_ino)) return "it is Kestrum's own folder";
    if (st.st_dev != device_above && !job.rules.other_filesystems) {
      return "another filesystem is mounted here (other_filesystems)";
    }
    Fd fd = source.open_folder(path.substr(1));
    if (fd && job.rules.leave_out_litter && has_cache_tag(fd.get())) {
      return "litter: a CACHEDIR.TAG marks it as a cache (leave_out_litter)";
    }
    return "";
  }
  if (!S_ISREG(st.st_mode)) return "";
  auto size = static_cast<std::uint64_t>(st.st_size);
  switch (selection.by_file(std::string_view(path).substr(1), size)) {
    case Rule::kOnly: {
      std::string extension = extension_of(path), category = category_of(extension);
      std::string what = extension.empty()  ? "it has no ending"
                         : category.empty() ? "\"." + extension + "\" is in no category"
                                            : "\"." + extension + "\" belongs to " + category;
      return "only: " + printable(what);
    }
    case Rule::kBiggerThan:
      return fmt::format("bigger_than: it has {}", format_size(size));
    case Rule::kSmallerThan:
      return fmt::format("smaller_than: it has {}", format_size(size));
    default:
      return "";
  }
}

}  // namespace

std::vector<std::string> explain_path(const MachineState& machine, const Job& job,
                                      const std::string& path) {
  std::vector<std::string> lines;
  std::vector<std::string> roots = in_path_order(expand_patterns(job.folders));
  // A folder that was named within another counts by itself.
  auto root = std::find_if(roots.rbegin(), roots.rend(),
                           [&](const std::string& r) { return is_within(path, r); });
  struct stat st {};
  SourceTree source(roots);
  bool there = source.look(path.substr(1), st);
  if (root == roots.rend()) {
    lines.push_back("out: it lies in none of the job's folders (source.folders)");
    for (const auto& r : roots) lines.push_back("  " + printable(r));
    return lines;
  }
  Selection selection(job.rules, own_folders(machine, ""));
  // The folders on the way from the root, then the path itself.
  std::vector<std::string> way;
  for (std::string at = path; at != *root; at = parent_of(at)) way.push_back(at);
  std::reverse(way.begin(), way.end());
  struct stat above {};
  if (!look_named(*root, above)) {
    lines.push_back("absent: the folder " + printable(*root) + " is not there now");
    return lines;
  }
  dev_t device = above.st_dev;
  for (const auto& step : way) {
    struct stat here {};
    if (!source.look(step.substr(1), here)) {
      here.st_dev = device;
      here.st_mode = 0;
    }
    std::string reason = reason_at(job, selection, *root, step, here, device, source);
    if (!reason.empty()) {
      lines.push_back("out: " + reason);
      if (step != path) lines.push_back("  that leaves out the folder " + printable(step));
      return lines;
    }
    device = here.st_dev;
  }
  if (!there) {
    lines.push_back(
        "in, if it were there: no rule leaves it out, but there is nothing of this name now");
    return lines;
  }
  lines.push_back("in: below " + printable(*root) + ", and no rule leaves it out");
  if (S_ISREG(st.st_mode) && selection.too_old(FileTime(st.st_mtim), calendar_now())) {
    lines.push_back("  changed_within: if no set holds it yet, it is too old and left out");
  }
  return lines;
}

}  // namespace kestrum
