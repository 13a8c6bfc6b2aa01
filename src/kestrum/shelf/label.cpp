#include "kestrum/shelf/label.h"

#include <fmt/format.h>
#include <sodium.h>

#include <algorithm>

#include "kestrum/base/error.h"
#include "kestrum/base/json.h"
#include "kestrum/base/text.h"
#include "kestrum/crypto/digest.h"
#include "kestrum/shelf/document.h"

namespace kestrum {

std::string ShelfLabel::to_json() const {
  Json json = new_document("kestrum-shelf");
  json["shelf"] = shelf;
  json["job"] = job;
  json["host"] = host;
  json["owner"] = owner;
  json["created"] = format_rfc3339(created);
  json["simulated"] = simulated;
  json["recipient"] = recipient ? Json(recipient->to_string()) : Json(nullptr);
  return json.dump(2) + "\n";
}

ShelfLabel ShelfLabel::parse(std::string_view text, const std::string& what) {
  Json json = parse_document(text, "kestrum-shelf", what);
  ShelfLabel label;
  label.shelf = json_string(json, "shelf", what);
  label.job = json_string(json, "job", what);
  label.host = json_string(json, "host", what);
  label.owner = json_string(json, "owner", what);
  label.created = document_time(json, "created", what);
  if (!is_uuid(label.shelf)) throw Error(ErrorKind::kDamage, what + ": \"shelf\" is not a UUID");
  label.simulated = json_member(json, "simulated", what) == true;
  const Json& recipient = json_member(json, "recipient", what);
  if (!recipient.is_null()) {
    label.recipient = Recipient::parse(json_string(json, "recipient", what));
    if (!label.recipient) {
      throw Error(ErrorKind::kDamage, what + ": \"recipient\" is not an age recipient");
    }
  }
  return label;
}

std::string make_uuid() {
  std::array<std::uint8_t, 16> raw;
  randombytes_buf(raw.data(), raw.size());
  raw[6] = static_cast<std::uint8_t>((raw[6] & 0x0f) | 0x40);
  raw[8] = static_cast<std::uint8_t>((raw[8] & 0x3f) | 0x80);
  std::string hex = to_hex(raw);
  return fmt::format("{}-{}-{}-{}-{}", hex.substr(0, 8), hex.substr(8, 4), hex.substr(12, 4),
                     hex.substr(16, 4), hex.substr(20));
}

bool is_uuid(std::string_view text) {
  if (text.size() != 36) return false;
  for (std::size_t i = 0; i < text.size(); ++i) {
    bool dash = i == 8 || i == 13 || i == 18 || i == 23;
    bool hex = (text[i] >= '0' && text[i] <= '9') || (text[i] >= 'a' && text[i] <= 'f');
    if (dash ? text[i] != '-' : !hex) return false;
  }
  return true;
}

}  // namespace kestrum
