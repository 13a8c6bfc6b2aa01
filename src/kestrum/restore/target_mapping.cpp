#include "kestrum/restore/target_mapping.h"

#include <fmt/format.h>

#include <algorithm>

#include "kestrum/base/file.h"
#include "kestrum/base/units.h"
#include "kestrum/select/path_order.h"

namespace kestrum {
namespace {

// "rota.ods" with " (2)" or ".of-..." before its ending.
std::string with_mark(const std::string& name, const std::string& mark) {
  std::size_t dot = name.rfind('.');
  if (dot == std::string::npos || dot == 0) dot = name.size();
  return name.substr(0, dot) + mark + name.substr(dot);
}

// Of several folders the deepest that holds `path`; nothing if none does.
template <typename List, typename Name>
const typename List::value_type* deepest(const List& list, const std::string& path, Name name) {
  const typename List::value_type* best = nullptr;
  for (const auto& item : list) {
    if (!is_within(path, name(item))) continue;
    if (best == nullptr || name(*best).size() < name(item).size()) best = &item;
  }
  return best;
}

}  // namespace

std::string moment_in_name(Nanos time) {
  std::string text = format_local(time);  // "2026-03-14 21:00"
  std::replace(text.begin(), text.end(), ' ', '-');
  std::erase(text, ':');
  return text;
}

TargetMapping::TargetMapping(const RestoreRequest& request, std::string shared,
                             std::vector<std::string> roots, const std::string& taken)
    : request_(request), shared_(std::move(shared)), roots_(std::move(roots)), taken_(taken) {}

TargetFolder& TargetMapping::tree(const std::string& folder) {
  auto known = trees_.find(folder);
  if (known == trees_.end()) {
    auto made = std::make_unique<TargetFolder>(folder, request_.owner, !request_.rehearse, making_);
    known = trees_.emplace(folder, std::move(made)).first;
  }
  return *known->second;
}

void TargetMapping::sync() {
  for (auto& [folder, tree] : trees_) tree->sync();
}

std::vector<std::shared_ptr<const Fd>> TargetMapping::roots() const {
  std::vector<std::shared_ptr<const Fd>> roots;
  for (const auto& [folder, tree] : trees_) {
    if (auto root = tree->root()) roots.push_back(std::move(root));
  }
  return roots;
}

void TargetMapping::open_target() {
  if (!request_.to.empty()) tree(request_.to);
}

TargetPath TargetMapping::at(const std::string& folder, const std::string& rel, bool is_folder) {
  if (rel.empty() && !is_folder && folder != "/") {
    return {&tree(parent_of(folder)), base_name(folder), folder};
  }
  return {&tree(folder), rel, path_below(folder, rel)};
}

TargetPath TargetMapping::plain(const std::string& path, bool folder) {
  std::string absolute = "/" + path;
  const auto* pair = pair_for(request_.map, absolute);
  if (request_.to.empty()) {
    if (pair != nullptr) return at(pair->second, relative_to(absolute, pair->first), folder);
    auto root = deepest(roots_, absolute, [](const std::string& r) { return r; });
    std::string base = root == nullptr ? "/" : *root;
    return at(base, relative_to(absolute, base), folder);
  }
  if (request_.layout == Layout::kFlat) {
    auto [known, fresh] = flat_chosen_.try_emplace(path);
    if (fresh) known->second = flat_name(base_name(path));
    return {&tree(request_.to), known->second, path_below(request_.to, known->second)};
  }
  std::string rel = path;
  if (request_.layout == Layout::kFull) {
    rel = mapped(request_.map, absolute).substr(1);
  } else if (!shared_.empty()) {
    rel = relative_to(path, shared_);
  }
  return {&tree(request_.to), rel, path_below(request_.to, rel)};
}

// A made-up name may be the real one of another file.
std::string TargetMapping::flat_name(const std::string& name) {
  std::string candidate = name;
  for (unsigned& number = flat_numbers_[name]; !flat_taken_.insert(candidate).second;) {
    number = std::max(number, 1U) + 1;
    candidate = with_mark(name, fmt::format(" ({})", number));
  }
  return candidate;
}

std::optional<TargetPath> TargetMapping::of(const std::string& path, bool folder) {
  for (const std::string& blocked : blocked_) {
    if (is_within(path, blocked)) return std::nullopt;
  }
  auto moved = deepest(redirected_, path, [](const auto& pair) { return pair.first; });
  if (moved == nullptr) return plain(path, folder);
  std::string rel = relative_to(path, moved->first);
  const TargetPath& to = moved->second;
  return TargetPath{to.tree, rel.empty() ? to.rel : to.rel + "/" + rel, path_below(to.shown, rel)};
}

TargetPath TargetMapping::beside(const TargetPath& at, unsigned number) const {
  std::string folder = folder_above(at.rel), name = base_name(at.rel);
  std::string mark = ".of-" + taken_ + (number < 2 ? "" : fmt::format("-{}", number));
  std::string changed = with_mark(name, mark);
  return TargetPath{at.tree, folder.empty() ? changed : folder + "/" + changed,
                    at.shown.substr(0, at.shown.size() - name.size()) + changed};
}

std::uint64_t TargetMapping::unmatched_owners() const {
  std::uint64_t count = 0;
  for (const auto& [folder, tree] : trees_) count += tree->unmatched_owners();
  return count;
}

}  // namespace kestrum
