// JSON documents read from untrusted places, and names that need not be UTF-8.
#pragma once

#include <cstdint>
#include <nlohmann/json.hpp>
#include <string>
#include <string_view>

namespace kestrum {

using Json = nlohmann::ordered_json;

// Parses a document; throws Error(kDamage) naming `what`, also for a key that stands twice in an
// object and for one nested deeper than 16.
Json parse_json(std::string_view text, const std::string& what);

// Checked access: each throws Error(kDamage) naming `what` and the key if it is missing or of
// another type.
std::string json_string(const Json& object, const char* key, const std::string& what);
std::uint64_t json_uint(const Json& object, const char* key, const std::string& what);
std::int64_t json_int(const Json& object, const char* key, const std::string& what);
const Json& json_member(const Json& object, const char* key, const std::string& what);

// A name of bytes: `key` if it is UTF-8, otherwise `key_b64` with standard Base64.
void put_name(Json& object, const std::string& key, std::string_view bytes);
// The reverse; false if neither key is there. Throws Error(kDamage) if both are.
bool get_name(const Json& object, const std::string& key, std::string& bytes,
              const std::string& what);

}  // namespace kestrum
