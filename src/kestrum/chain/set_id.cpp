#include "kestrum/chain/set_id.h"

#include <fmt/format.h>

#include <charconv>

#include "kestrum/base/units.h"

namespace kestrum {
namespace {

// Digits at the front of `text`, which are removed from it.
std::optional<std::uint32_t> take_number(std::string_view& text) {
  std::uint32_t value = 0;
  auto [end, ec] = std::from_chars(text.data(), text.data() + text.size(), value);
  if (ec != std::errc() || end == text.data()) return std::nullopt;
  text.remove_prefix(static_cast<std::size_t>(end - text.data()));
  return value;
}

std::optional<SetId> take_id(std::string_view& text) {
  if (!text.starts_with('c')) return std::nullopt;
  text.remove_prefix(1);
  auto chain = take_number(text);
  if (!chain || *chain == 0 || *chain >= kChainLimit || !text.starts_with('-')) return std::nullopt;
  text.remove_prefix(1);
  auto link = take_number(text);
  if (!link || *link >= kLinkLimit) return std::nullopt;
  return SetId{*chain, *link};
}

}  // namespace

std::string SetId::to_string() const {
  return fmt::format("c{}-{}", chain, link);
}

std::optional<SetId> SetId::parse(std::string_view text) {
  auto id = take_id(text);
  return text.empty() ? id : std::nullopt;
}

SetId SetId::from_sequence(std::int64_t sequence) {
  return {static_cast<std::uint32_t>(sequence >> 20),
          static_cast<std::uint32_t>(sequence & (kLinkLimit - 1))};
}

const char* kind_name(SetKind kind) {
  return kind == SetKind::kFull          ? "full"
         : kind == SetKind::kIncremental ? "incremental"
                                         : "differential";
}

std::optional<SetKind> parse_kind(std::string_view text) {
  for (SetKind kind : {SetKind::kFull, SetKind::kIncremental, SetKind::kDifferential}) {
    if (text == kind_name(kind)) return kind;
  }
  return std::nullopt;
}

std::string set_folder_name(SetId id, Nanos begun) {
  std::string time = format_rfc3339(begun);  // 2026-03-02T21:00:00Z
  return fmt::format("c{:04}-{:03}_{}_{}{}Z", id.chain, id.link, time.substr(0, 10),
                     time.substr(11, 2), time.substr(14, 2));
}

std::optional<SetFolder> parse_set_folder(std::string_view name) {
  SetFolder folder;
  if (name.ends_with(kUnfinishedSuffix)) {
    folder.state = SetFolder::State::kUnfinished;
    name.remove_suffix(kUnfinishedSuffix.size());
  } else if (name.ends_with(kRemovingSuffix)) {
    folder.state = SetFolder::State::kRemoving;
    name.remove_suffix(kRemovingSuffix.size());
  }
  auto id = take_id(name);
  constexpr std::string_view kShape = "_0000-00-00_0000Z";
  if (!id || name.size() != kShape.size()) return std::nullopt;
  for (std::size_t i = 0; i < kShape.size(); ++i) {
    bool digit = name[i] >= '0' && name[i] <= '9';
    if (kShape[i] == '0' ? !digit : name[i] != kShape[i]) return std::nullopt;
  }
  folder.id = *id;
  return folder;
}

}  // namespace kestrum
