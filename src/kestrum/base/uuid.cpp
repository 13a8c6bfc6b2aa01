#include "kestrum/base/uuid.h"

#include <systemd/sd-id128.h>

#include <cstdlib>

#include "kestrum/base/error.h"

namespace kestrum {
namespace {

std::string uuid_text(sd_id128_t id) {
  char text[SD_ID128_UUID_STRING_MAX];
  return sd_id128_to_uuid_string(id, text);
}

// Of this program, for sd_id128_get_machine_app_specific(3): no other one gets the same id.
constexpr sd_id128_t kProgram =
    SD_ID128_MAKE(6b, 1e, 57, 24, 90, c3, 4d, 0f, 8a, 77, 2e, d1, 5c, 3b, 09, f6);

}  // namespace

std::string make_uuid() {
  sd_id128_t id;
  int result = sd_id128_randomize(&id);
  if (result < 0) throw system_error(-result, "random UUID");
  return uuid_text(id);
}

bool is_uuid(std::string_view text) {
  sd_id128_t id;
  // Other spellings of the same number are read too, so it is compared.
  return sd_id128_from_string(std::string(text).c_str(), &id) >= 0 && uuid_text(id) == text;
}

std::string pc_uuid() {
  if (const char* given = std::getenv("KESTRUM_PC"); given != nullptr) {
    return is_uuid(given) ? given : "";
  }
  sd_id128_t id;
  return sd_id128_get_machine_app_specific(kProgram, &id) < 0 ? "" : uuid_text(id);
}

std::string combined_uuid(const std::string& a, const std::string& b) {
  sd_id128_t left, right;
  if (sd_id128_from_string(a.c_str(), &left) < 0 || sd_id128_from_string(b.c_str(), &right) < 0) {
    throw Error(ErrorKind::kFailed, "not a UUID: " + a + " or " + b);
  }
  for (std::size_t i = 0; i < sizeof left.bytes; ++i) left.bytes[i] ^= right.bytes[i];
  return uuid_text(left);
}

}  // namespace kestrum
