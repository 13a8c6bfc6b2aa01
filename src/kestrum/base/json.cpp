#include "kestrum/base/json.h"

#include <algorithm>
#include <vector>

#include "kestrum/base/base64.h"
#include "kestrum/base/error.h"
#include "kestrum/base/text.h"

namespace kestrum {
namespace {

constexpr int kDeepest = 16;

[[noreturn]] void bad(const std::string& what, const char* key) {
  throw Error(ErrorKind::kDamage, what + ": \"" + key + "\" is missing or not what it should be");
}

}  // namespace

Json parse_json(std::string_view text, const std::string& what) {
  // Readers disagree about which of two keys counts: one that looks at signed words must not see
  // others than the next.
  std::vector<std::vector<std::string>> keys;  // of the objects that are open
  const char* why = nullptr;
  using Event = Json::parse_event_t;
  auto check = [&](int depth, Event event, Json& parsed) {
    if (depth > kDeepest) why = "nested too deep";
    if (event == Event::object_start) keys.emplace_back();
    if (event == Event::object_end && !keys.empty()) keys.pop_back();
    if (event == Event::key && !keys.empty()) {
      auto& known = keys.back();
      const auto& key = parsed.get_ref<const std::string&>();
      if (std::find(known.begin(), known.end(), key) != known.end())
        why = "a key stands there twice";
      known.push_back(key);
    }
    return why == nullptr;
  };
  Json document = Json::parse(text, check, false);
  if (why != nullptr) throw Error(ErrorKind::kDamage, what + ": " + why);
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
    if (!plain->is_string() || object.contains(key + "_b64")) bad(what, key.c_str());
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
