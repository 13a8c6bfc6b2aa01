#include "kestrum/shelf/signed_file.h"

#include <utility>

#include "kestrum/base/error.h"
#include "kestrum/base/file.h"

namespace kestrum {

SignedFile::SignedFile(Place& place, std::string path, std::string_view text, const SigningKey& key,
                       const std::string& comment)
    : place_(place), path_(std::move(path)) {
  std::string signature = key.sign(as_bytes(text), comment);
  try {
    for (std::string_view content : {text, std::string_view(signature)}) {
      auto& file =
          files_.emplace_back(place_.create(path_ + (files_.empty() ? ".new" : ".minisig.new")));
      file->write(as_bytes(content));
      file->end();
    }
  } catch (const Error&) {
    failure_ = std::current_exception();
  }
}

void SignedFile::put() {
  if (failure_) std::rethrow_exception(failure_);
  for (auto& file : files_) file->sync();
  files_.clear();
  place_.sync_folder(parent_of(path_));
  place_.rename(path_ + ".minisig.new", path_ + ".minisig");
  place_.sync_folder(parent_of(path_));
  place_.rename(path_ + ".new", path_);
  place_.sync_folder(parent_of(path_));
}

void write_signed(Place& place, const std::string& path, std::string_view text,
                  const SigningKey& key, const std::string& comment) {
  SignedFile(place, path, text, key, comment).put();
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
