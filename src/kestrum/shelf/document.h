// What the JSON documents of a shelf have in common: "format" and "version".
#pragma once

#include <optional>
#include <string>
#include <string_view>

#include "kestrum/base/error.h"
#include "kestrum/base/json.h"
#include "kestrum/chain/set_id.h"
#include "kestrum/crypto/digest.h"

namespace kestrum {

inline constexpr std::uint64_t kFormatVersion = 2;

// What a reader must understand to read a document, by the words that it is named with.
inline constexpr const char* kNeedsRanges = "ranges";  // content that lies piece by piece
inline constexpr const char* kNeedsDisks = "disks";    // parts that lie on several disks

Json new_document(const char* format);
// Throws Error(kDamage) naming `what` if the text is not JSON or of another format, and
// newer_than_this for a later version or a need that is not known.
Json parse_document(std::string_view text, const char* format, const std::string& what);

// Whether it has this need.
bool document_needs(const Json& json, const char* need);

// What a later version of the program wrote, in words; Error(kFailed), newer().
Error newer_than_this(const std::string& what);

Nanos document_time(const Json& json, const char* key, const std::string& what);
SetId document_set(const Json& json, const char* key, const std::string& what);
std::optional<SetId> document_optional_set(const Json& json, const char* key,
                                           const std::string& what);
Digest document_digest(const Json& json, const char* key, const std::string& what);
std::optional<Digest> document_optional_digest(const Json& json, const char* key,
                                               const std::string& what);
SetKind document_kind(const Json& json, const char* key, const std::string& what);

}  // namespace kestrum
