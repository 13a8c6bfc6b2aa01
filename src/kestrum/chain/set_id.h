// How sets are numbered and named. Order is chain and link number, never a clock or a name.
#pragma once

#include <cstdint>
#include <optional>
#include <string>
#include <string_view>

#include "kestrum/base/clock.h"

namespace kestrum {

struct SetId {
  std::uint32_t chain = 0;  // from 1
  std::uint32_t link = 0;   // from 0, the full set

  auto operator<=>(const SetId&) const = default;
  std::string to_string() const;  // "c3-7"
  static std::optional<SetId> parse(std::string_view text);
  // One number that orders as the id does.
  std::int64_t sequence() const { return static_cast<std::int64_t>(chain) << 20 | link; }
  static SetId from_sequence(std::int64_t sequence);
};
inline constexpr std::uint32_t kLinkLimit = 1 << 20;
inline constexpr std::uint32_t kChainLimit = 1 << 30;

enum class SetKind { kFull, kIncremental, kDifferential };
const char* kind_name(SetKind kind);  // "full", "incremental", "differential"
std::optional<SetKind> parse_kind(std::string_view text);

inline constexpr std::string_view kUnfinishedSuffix = ".unfinished";
inline constexpr std::string_view kRemovingSuffix = ".removing";

// "c0003-007_2026-03-02_2100Z"
std::string set_folder_name(SetId id, Nanos begun);

struct SetFolder {
  SetId id;
  enum class State { kPlain, kUnfinished, kRemoving } state = State::kPlain;
};
// Nothing if the name is not one that set_folder_name gives, with or without a suffix.
std::optional<SetFolder> parse_set_folder(std::string_view name);

}  // namespace kestrum
