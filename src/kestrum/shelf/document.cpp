#include "kestrum/shelf/document.h"

#include <fmt/format.h>

#include "kestrum/base/error.h"
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
  return json;
}

Json parse_document(std::string_view text, const char* format, const std::string& what) {
  Json json = parse_json(text, what);
  if (json_string(json, "format", what) != format) throw bad_document(what, "format");
  std::uint64_t version = json_uint(json, "version", what);
  if (version > kFormatVersion) {
    throw Error(ErrorKind::kDamage,
                fmt::format("{}: {} version {} is newer than this program", what, format, version),
                "a newer Kestrum wrote it: use that one");
  }
  return json;
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
