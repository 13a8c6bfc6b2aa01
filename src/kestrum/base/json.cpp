#include "kestrum/base/json.h"

#include "kestrum/base/base64.h"
#include "kestrum/base/error.h"
#include "kestrum/base/text.h"

namespace kestrum {
namespace {

[[noreturn]] void bad(const std::string& what, const char* key) {
  throw Error(ErrorKind::kDamage, what + ": \"" + key + "\" is missing or not what it should be");
}

}  // namespace

Json parse_json(std::string_view text, const std::string& what) {
  Json document = Json::parse(text, nullptr, false);
  if (document.is_discarded()) throw Error(ErrorKind::kDamage, what + ": not JSON");
  return document;
}

const Json& json_member(const Json& object, const char* key, const std::string& what) {
  if (!object.is_object()) bad(what, key);
  auto it = object.find(key);
  if (it == object.end()) bad(what, key);
  return *it;
}

std::string json_string(const Json& object, const char* key, const std::string& what) {
  const Json& value = json_member(object, key, what);
  if (!value.is_string()) bad(what, key);
  return value.get<std::string>();
}

std::uint64_t json_uint(const Json& object, const char* key, const std::string& what) {
  const Json& value = json_member(object, key, what);
  if (!value.is_number_unsigned()) bad(what, key);
  return value.get<std::uint64_t>();
}

std::int64_t json_int(const Json& object, const char* key, const std::string& what) {
  const Json& value = json_member(object, key, what);
  if (!value.is_number_integer()) bad(what, key);
  if (value.is_number_unsigned() && value.get<std::uint64_t>() > INT64_MAX) bad(what, key);
  return value.get<std::int64_t>();
}

void put_name(Json& object, const std::string& key, std::string_view bytes) {
  if (is_utf8(bytes)) {
    object[key] = bytes;
  } else {
    object[key + "_b64"] = base64_encode(bytes);
  }
}

bool get_name(const Json& object, const std::string& key, std::string& bytes,
              const std::string& what) {
  auto plain = object.find(key);
  if (plain != object.end()) {
    if (!plain->is_string()) bad(what, key.c_str());
    bytes = plain->get<std::string>();
    return true;
  }
  std::string encoded_key = key + "_b64";
  auto encoded = object.find(encoded_key);
  if (encoded == object.end()) return false;
  if (!encoded->is_string()) bad(what, encoded_key.c_str());
  auto decoded = base64_decode(encoded->get<std::string>());
  if (!decoded) bad(what, encoded_key.c_str());
  bytes = *decoded;
  return true;
}

}  // namespace kestrum
