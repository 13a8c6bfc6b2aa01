#include "kestrum/shelf/document.h"

#include <fmt/format.h>

#include <algorithm>

#include "kestrum/base/error.h"
#include "kestrum/base/text.h"
#include "kestrum/base/units.h"

namespace kestrum {
namespace {

Error bad_document(const std::string& what, const char* key) {
  return Error(ErrorKind::kDamage, fmt::format("{}: \"{}\" is not what it should be", what, key));
}

}  // namespace

Json new_document(const char* format) {
  Json json;
  json["format"] = format;
  json["version"] = kFormatVersion;
  json["needs"] = Json::array();
  return json;
}

Json parse_document(std::string_view text, const char* format, const std::string& what) {
  Json json = parse_json(text, what);
  if (json_string(json, "format", what) != format) throw bad_document(what, "format");
  std::uint64_t version = json_uint(json, "version", what);
  if (version > kFormatVersion) {
    throw newer_than_this(fmt::format("{}: {} version {}", what, format, version));
  }
  if (version < kFormatVersion) {
    throw Error(ErrorKind::kFailed,
                fmt::format("{}: version {} was written before the first release, and is not read",
                            what, version));
  }
  const Json& needs = json_member(json, "needs", what);
  if (!needs.is_array()) throw bad_document(what, "needs");
  for (const Json& need : needs) {
    std::string word = need.is_string() ? need.get<std::string>() : "?";
    if (word == kNeedsRanges || word == kNeedsDisks) continue;
    throw newer_than_this(what + ": it needs \"" + printable(word) + "\"");
  }
  return json;
}

bool document_needs(const Json& json, const char* need) {
  const Json& needs = json.at("needs");
  return std::find(needs.begin(), needs.end(), need) != needs.end();
}

Error newer_than_this(const std::string& what) {
  return Error(ErrorKind::kFailed, what + " is newer than this program",
               "a later Kestrum wrote it, and nothing is wrong with it: use that one")
      .because_newer();
}

Nanos document_time(const Json& json, const char* key, const std::string& what) {
  auto time = parse_rfc3339(json_string(json, key, what));
  if (!time) throw bad_document(what, key);
  return *time;
}

SetId document_set(const Json& json, const char* key, const std::string& what) {
  auto set = SetId::parse(json_string(json, key, what));
  if (!set) throw bad_document(what, key);
  return *set;
}

std::optional<SetId> document_optional_set(const Json& json, const char* key,
                                           const std::string& what) {
  if (json_member(json, key, what).is_null()) return std::nullopt;
  return document_set(json, key, what);
}

Digest document_digest(const Json& json, const char* key, const std::string& what) {
  auto digest = parse_digest(json_string(json, key, what));
  if (!digest) throw bad_document(what, key);
  return *digest;
}

std::optional<Digest> document_optional_digest(const Json& json, const char* key,
                                               const std::string& what) {
  if (json_member(json, key, what).is_null()) return std::nullopt;
  return document_digest(json, key, what);
}

SetKind document_kind(const Json& json, const char* key, const std::string& what) {
  auto kind = parse_kind(json_string(json, key, what));
  if (!kind) throw bad_document(what, key);
  return *kind;
}

}  // namespace kestrum
