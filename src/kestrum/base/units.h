// Sizes, lengths of time and moments as people read and write them.
#pragma once

#include <cstdint>
#include <optional>
#include <string>
#include <string_view>

#include "kestrum/base/nanos.h"

namespace kestrum {

// "650 MB", "4 GiB", "1.5TB", "1200": bytes. Decimal units by 1000, binary ones (KiB...) by 1024.
// Nothing if the text is not a size or exceeds 2^63 - 1.
std::optional<std::uint64_t> parse_size(std::string_view text);
// Decimal, three significant digits: "0 bytes", "512 bytes", "1.24 GB".
std::string format_size(std::uint64_t bytes);
// "1,234,567"
std::string format_count(std::uint64_t count);
// "1 file", "3 files"
std::string counted(std::uint64_t count, std::string_view singular, std::string_view plural = "");

// "14 days", "10 minutes", "2 years": nanoseconds (a month is 30 days, a year 365).
std::optional<Nanos> parse_duration(std::string_view text);
// A length of time for people: "0.4 s", "12 s", "3 min 20 s", "2 h 05 min", "3 days".
std::string format_duration(Nanos duration);

// "just now", "12 minutes ago", "3 hours ago", "5 days ago"; a time to come is "just now".
std::string format_ago(Nanos then, Nanos now);

// RFC 3339 with a zone: "2026-03-02T21:00:00Z", "2026-03-02T21:00:00.5+01:00".
std::optional<Nanos> parse_rfc3339(std::string_view text);
// RFC 3339 in UTC, whole seconds: "2026-03-02T21:00:00Z".
std::string format_rfc3339(Nanos time);
// Local time by TZ, with minutes: "2026-03-02 21:00".
std::string format_local(Nanos time);
// The same with its weekday: "Mon 2026-03-02", "Mon 2026-03-02 21:00".
std::string format_day(Nanos time);
std::string format_local_day(Nanos time);

}  // namespace kestrum
