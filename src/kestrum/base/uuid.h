// Universally unique identifiers (RFC 4122).
#pragma once

#include <string>
#include <string_view>

namespace kestrum {

// A random UUID, version 4, in lower case: "3f2c...-...". Throws Error(kFailed) if the system gives
// no random bytes.
std::string make_uuid();

// Whether the text is a UUID as make_uuid() writes it, of any version.
bool is_uuid(std::string_view text);

// A UUID that stands for this PC as long as its system is not set up anew: made from machine-id(5),
// which cannot be found from it. Empty where there is none. KESTRUM_PC takes its place, for tests.
std::string pc_uuid();
// One made of two others, always the same.
std::string combined_uuid(const std::string& a, const std::string& b);

}  // namespace kestrum
