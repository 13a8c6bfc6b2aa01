#include "kestrum/base/uuid.h"

#include <systemd/sd-id128.h>

#include "kestrum/base/error.h"

namespace kestrum {
namespace {

std::string uuid_text(sd_id128_t id) {
  char text[SD_ID128_UUID_STRING_MAX];
  return sd_id128_to_uuid_string(id, text);
}

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

}  // namespace kestrum
