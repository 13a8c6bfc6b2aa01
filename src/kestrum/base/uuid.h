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

}  // namespace kestrum
