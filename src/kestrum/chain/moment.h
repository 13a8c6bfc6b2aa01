// TIME as people say it, and the restore point it means.
#pragma once

#include <optional>
#include <string_view>
#include <vector>

#include "kestrum/chain/next_kind.h"

namespace kestrum {

struct Moment {
  enum class Kind { kNewest, kOldest, kLastSeen, kSet, kTime };
  Kind kind = Kind::kNewest;
  SetId set;       // kSet
  Nanos time = 0;  // kTime: the newest restore point not later than this
};

// "2026-03-14" (the end of that day), "2026-03-14 21:00" (the end of that minute), RFC 3339,
// "2026-03" (the end of that month), "today", "yesterday", "yesterday 17:00", "3 days ago", "2
// hours ago", "monday", "mon 17:00", "last monday", "last week" (which ends on Sunday), "last
// month", "newest", "oldest", "last-seen", "c3-7". Local time by TZ. Nothing if it is none of
// these.
std::optional<Moment> parse_moment(std::string_view text, Nanos now);

// A day to come, as in `job pause --until`: "2026-03-14", "2026-03-14 12:00", "tomorrow", "friday"
// (the next one after today), "in 3 days", "in 2 weeks"; its beginning where no time of day is
// given. Nothing if it is none of these.
std::optional<Nanos> parse_until(std::string_view text, Nanos now);

// Where the span of time begins that parse_moment() gives the end of: the day, the minute, the
// month or the week. Nothing for words that mean a restore point.
std::optional<Nanos> parse_beginning(std::string_view text, Nanos now);

inline constexpr const char* kMomentsInWords =
    "such as 2026-03-14, \"2026-03-14 21:00\", 2026-03, yesterday, \"3 days ago\", \"monday "
    "17:00\", "
    "\"last tuesday\", \"last week\", newest, oldest, last-seen, c3-7";

// The set that a moment means, of `sets`; nothing if there is none. kLastSeen gives the newest.
std::optional<SetId> choose_set(const std::vector<SetFacts>& sets, const Moment& moment);

}  // namespace kestrum
