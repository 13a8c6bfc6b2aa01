#include "kestrum/shelf/signed_file.h"

#include "kestrum/base/error.h"
#include "kestrum/base/file.h"

namespace kestrum {

void write_signed(Place& place, const std::string& path, std::string_view text,
                  const SigningKey& key, const std::string& comment) {
  std::string signature = key.sign(as_bytes(text), comment);
  {
    auto file = place.create(path + ".new");
    file->write(as_bytes(text));
    file->sync();
  }
  place.sync_folder(parent_of(path));
  write_small(place, path + ".minisig", signature);
  place.rename(path + ".new", path);
  place.sync_folder(parent_of(path));
}

bool finish_signed(Place& place, const std::string& path, const std::vector<VerifyKey>& keys) {
  if (keys.empty() || !place.exists(path + ".new")) return false;
  auto fits = [&](const std::string& name) {
    try {
      std::string text = read_small(place, name, kSignedFileLimit);
      return signature_valid(as_bytes(text), read_small(place, path + ".minisig", kSignedFileLimit),
                             keys);
    } catch (const Error& error) {
      if (error.kind() == ErrorKind::kPlace) throw;
      return false;
    }
  };
  if (fits(path) || !fits(path + ".new")) return false;
  place.rename(path + ".new", path);
  place.sync_folder(parent_of(path));
  return true;
}

std::optional<std::string> read_signed(Place& place, const std::string& path,
                                       const std::vector<VerifyKey>& keys) {
  // A sector, or a share, that does not answer once may answer the second time.
  for (int look = 0; look < 2; ++look) {
    try {
      std::string text = read_small(place, path, kSignedFileLimit);
      if (keys.empty()) return text;
      std::string signature = read_small(place, path + ".minisig", kSignedFileLimit);
      if (signature_valid(as_bytes(text), signature, keys)) return text;
      return std::nullopt;
    } catch (const Error& error) {
      if (error.kind() != ErrorKind::kDamage) throw;
    }
  }
  return std::nullopt;
}

bool sign_anew(Place& place, const std::string& path, const std::vector<VerifyKey>& old,
               const SigningKey& key, const std::string& comment) {
  if (!place.exists(path)) return false;
  auto text = read_signed(place, path, old);
  if (!text) return false;
  write_small(place, path + ".minisig", key.sign(as_bytes(*text), comment));
  return true;
}

}  // namespace kestrum
