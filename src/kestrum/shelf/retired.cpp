#include "kestrum/shelf/retired.h"

#include "kestrum/base/error.h"
#include "kestrum/base/units.h"
#include "kestrum/shelf/document.h"
#include "kestrum/shelf/signed_file.h"

namespace kestrum {
namespace {

constexpr const char* kRetiredFormat = "kestrum-retired";
constexpr const char* kUnknownSigner = "unknown";  // instead of a key's id

void read_list(Place& place, const std::string& path, const std::string& shelf,
               const std::vector<VerifyKey>& keys, RetiredSigners& retired) {
  std::string text = read_small(place, path, kSignedFileLimit);
  std::string signature = read_small(place, path + ".minisig", kSignedFileLimit);
  if (!signature_valid(as_bytes(text), signature, keys)) return;
  Json json = parse_document(text, kRetiredFormat, path);
  if (json_string(json, "shelf", path) != shelf) return;
  const Json& seals = json_member(json, "seals", path);
  if (!seals.is_array()) throw Error(ErrorKind::kDamage, path + ": \"seals\" is not a list");
  for (const Json& seal : seals) {
    auto digest = seal.is_string() ? parse_digest(seal.get<std::string>()) : std::nullopt;
    if (!digest) throw Error(ErrorKind::kDamage, path + ": a digest that is none");
    retired.seals.insert(*digest);
  }
  if (json_member(json, "key", path).is_null()) return;
  if (auto key = VerifyKey::parse(json_string(json, "key", path))) retired.keys.push_back(*key);
}

}  // namespace

RetiredSigners read_retired(Place& place, const std::string& shelf,
                            const std::vector<VerifyKey>& keys) {
  RetiredSigners retired;
  std::vector<PlaceEntry> entries;
  try {
    entries = place.list(kRetiredFolder);
  } catch (const Error& error) {
    if (error.kind() == ErrorKind::kPlace) throw;
    retired.not_read = kRetiredFolder;
  }
  for (const PlaceEntry& entry : entries) {
    if (entry.is_folder || !entry.name.ends_with(".json")) continue;
    try {
      read_list(place, std::string(kRetiredFolder) + "/" + entry.name, shelf, keys, retired);
    } catch (const Error& error) {
      if (error.kind() == ErrorKind::kPlace) throw;
      bool to_be_tried_again = error.kind() != ErrorKind::kDamage && !error.newer();
      if (to_be_tried_again) retired.not_read = std::string(kRetiredFolder) + "/" + entry.name;
    }
  }
  return retired;
}

void write_retired(Place& place, const std::string& shelf, const std::vector<VerifyKey>& old,
                   const std::vector<Digest>& seals, Nanos when, const SigningKey& key) {
  place.make_folder(kRetiredFolder);
  auto write = [&](const std::string& name, const Json& signer) {
    Json json = new_document(kRetiredFormat);
    json["shelf"] = shelf;
    json["key"] = signer;
    json["when"] = format_rfc3339(when);
    json["seals"] = Json::array();
    for (const Digest& seal : seals) json["seals"].push_back(to_hex(seal));
    for (const char* copy : {"", "-copy"}) {
      write_signed(place, std::string(kRetiredFolder) + "/" + name + copy + ".json",
                   json.dump(2) + "\n", key, "what stays valid of " + name + " on shelf " + shelf);
    }
  };
  if (old.empty()) write(kUnknownSigner, nullptr);
  for (const VerifyKey& signer : old) write(to_hex(signer.id), signer.to_string());
}

}  // namespace kestrum
