#include "kestrum/shelf/trust.h"

#include "kestrum/base/error.h"
#include "kestrum/base/host_name.h"
#include "kestrum/base/units.h"
#include "kestrum/shelf/document.h"
#include "kestrum/shelf/signed_file.h"

namespace kestrum {
namespace {

constexpr const char* kTrustedFormat = "kestrum-trusted";
constexpr std::uint64_t kTrustLimit = 1 << 20;

}  // namespace

void write_trust(Place& place, const ShelfSet& set, const Trust& trust, const SigningKey& key) {
  Json json = new_document(kTrustedFormat);
  json["shelf"] = trust.shelf;
  json["set"] = set.id.to_string();
  json["seal"] = to_hex(set.seal_digest);
  json["because"] = trust.because;
  json["when"] = format_rfc3339(trust.when);
  json["host"] = host_name();
  write_signed(place, set.folder + "/" + kTrustedFile, json.dump(2) + "\n", key,
               "trust in set " + set.id.to_string() + " of shelf " + trust.shelf);
}

std::string read_trust(Place& place, const std::string& shelf, const ShelfSet& set,
                       const std::vector<VerifyKey>& keys) {
  std::string path = set.folder + "/" + kTrustedFile;
  if (!place.exists(path)) return "";
  try {
    std::string text = read_small(place, path, kTrustLimit);
    if (!keys.empty()) {
      std::string signature = read_small(place, path + ".minisig", kTrustLimit);
      if (!signature_valid(as_bytes(text), signature, keys)) return "";
    }
    Json json = parse_document(text, kTrustedFormat, path);
    bool of_this = json_string(json, "shelf", path) == shelf &&
                   document_set(json, "set", path) == set.id &&
                   document_digest(json, "seal", path) == set.seal_digest;
    return of_this ? json_string(json, "because", path) : "";
  } catch (const Error& error) {
    if (error.kind() == ErrorKind::kPlace) throw;
    return "";
  }
}

}  // namespace kestrum
