// Times as pax writes them: seconds since 1970 with up to nine decimals, exact to the nanosecond
// (POSIX.1-2001, pax interchange format, "mtime").
#pragma once

#include <optional>
#include <string>
#include <string_view>

#include "kestrum/base/file_time.h"

namespace kestrum {

// "1773435600.25", "-1", "0"
std::string pax_time(FileTime time);
// Decimals behind the ninth are dropped. Nothing for what is no such time, or one of more than 64
// bits of seconds.
std::optional<FileTime> parse_pax_time(std::string_view text);

}  // namespace kestrum
