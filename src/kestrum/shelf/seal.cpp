#include "kestrum/shelf/seal.h"

#include <algorithm>

#include "kestrum/base/error.h"
#include "kestrum/base/units.h"
#include "kestrum/shelf/document.h"

namespace kestrum {
namespace {

constexpr const char* kSealFormat = "kestrum-seal";

// File names in a seal are ours; anything else would reach outside the set's folder.
std::string plain_name(const Json& json, const char* key, const std::string& what) {
  std::string name = json_string(json, key, what);
  bool plain = !name.empty() && name[0] != '.' && std::all_of(name.begin(), name.end(), [](char c) {
    return (c >= 'a' && c <= 'z') || (c >= '0' && c <= '9') || c == '-' || c == '.';
  });
  if (!plain) throw Error(ErrorKind::kDamage, what + ": a file name that is not one of ours");
  return name;
}

}  // namespace

SetFacts Seal::facts() const {
  return {set, kind, based_on, started, true};
}

std::string Seal::to_json() const {
  Json json = new_document(kSealFormat);
  json["shelf"] = shelf;
  json["set"] = set.to_string();
  json["kind"] = kind_name(kind);
  json["based_on"] = based_on ? Json(based_on->to_string()) : Json(nullptr);
  json["begun"] = format_rfc3339(begun);
  json["started"] = format_rfc3339(started);
  json["finished"] = format_rfc3339(finished);
  json["host"] = host;
  json["program"] = program;
  json["outcome"] = outcome;
  json["verified"] = verified;
  json["suspect"] = suspect;
  if (suspect) json["suspect_why"] = suspect_why;
  json["lacking"] = lacking;
  json["encrypted"] = encrypted;
  json["compressed"] = compressed;
  for (auto [key, value] : file_fields(files)) json["files"][key] = *value;
  for (auto [key, value] : byte_fields(bytes)) json["bytes"][key] = *value;
  json["parts"] = Json::array();
  for (const PartInfo& part : parts) {
    json["parts"].push_back({{"name", part.name},
                             {"bytes", part.bytes},
                             {"tar_offset", part.tar_offset},
                             {"digest", to_hex(part.digest)}});
  }
  json["ledger"] = {{"name", ledger_name},
                    {"copy", ledger_copy},
                    {"bytes", ledger_bytes},
                    {"digest", to_hex(ledger_digest)}};
  json["base_seal"] = base_seal ? Json(to_hex(*base_seal)) : Json(nullptr);
  json["previous_seal"] = previous_seal ? Json(to_hex(*previous_seal)) : Json(nullptr);
  return json.dump(2) + "\n";
}

Seal Seal::parse(std::string_view text, const std::string& what) {
  auto bad = [&](const char* why) { return Error(ErrorKind::kDamage, what + ": " + why); };
  Json json = parse_document(text, kSealFormat, what);
  Seal seal;
  seal.shelf = json_string(json, "shelf", what);
  seal.set = document_set(json, "set", what);
  seal.kind = document_kind(json, "kind", what);
  seal.based_on = document_optional_set(json, "based_on", what);
  seal.begun = document_time(json, "begun", what);
  seal.started = document_time(json, "started", what);
  seal.finished = document_time(json, "finished", what);
  seal.host = json_string(json, "host", what);
  seal.program = json_string(json, "program", what);
  seal.outcome = json_string(json, "outcome", what);
  seal.verified = json_string(json, "verified", what);
  seal.suspect = json_member(json, "suspect", what) == true;
  if (json.contains("suspect_why")) seal.suspect_why = json_string(json, "suspect_why", what);
  seal.lacking = json_member(json, "lacking", what) != false;
  seal.encrypted = json_member(json, "encrypted", what) != false;
  seal.compressed = json_member(json, "compressed", what) != false;
  const Json& files = json_member(json, "files", what);
  for (auto [key, value] : file_fields(seal.files)) *value = json_uint(files, key, what);
  const Json& bytes = json_member(json, "bytes", what);
  for (auto [key, value] : byte_fields(seal.bytes)) *value = json_uint(bytes, key, what);
  const Json& parts = json_member(json, "parts", what);
  if (!parts.is_array() || parts.empty()) throw bad("\"parts\" is not a list");
  for (const Json& part : parts) {
    PartInfo info{plain_name(part, "name", what), json_uint(part, "bytes", what),
                  json_uint(part, "tar_offset", what), document_digest(part, "digest", what)};
    bool in_order =
        seal.parts.empty() ? info.tar_offset == 0 : info.tar_offset > seal.parts.back().tar_offset;
    if (!in_order) throw bad("its parts are not in order");
    seal.parts.push_back(std::move(info));
  }
  const Json& ledger = json_member(json, "ledger", what);
  seal.ledger_name = plain_name(ledger, "name", what);
  seal.ledger_copy = plain_name(ledger, "copy", what);
  seal.ledger_bytes = json_uint(ledger, "bytes", what);
  seal.ledger_digest = document_digest(ledger, "digest", what);
  seal.base_seal = document_optional_digest(json, "base_seal", what);
  seal.previous_seal = document_optional_digest(json, "previous_seal", what);
  bool full = seal.kind == SetKind::kFull;
  if (full != !seal.based_on || full != (seal.set.link == 0)) throw bad("kind and base disagree");
  if (seal.based_on && (seal.based_on->chain != seal.set.chain || !(*seal.based_on < seal.set))) {
    throw bad("it is based on a set that cannot be its base");
  }
  return seal;
}

}  // namespace kestrum
