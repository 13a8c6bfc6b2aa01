// A file that somebody names for an answer: a calendar, a page to print.
#pragma once

#include <sys/types.h>

#include <string>
#include <string_view>

namespace kestrum {

// Written under another name beside it and then renamed, so that it is whole or not there. Links on
// the way are followed as in followed.h, none below. Throws Error(kUsage) if something that is no
// file has its name.
void write_named_file(const std::string& named, std::string_view text, mode_t mode = 0600);

// A folder for several of them, made (mode 0700) if it is not there; the one above it must be.
// Throws Error(kUsage) if it cannot be had.
void make_named_folder(const std::string& named);

}  // namespace kestrum
