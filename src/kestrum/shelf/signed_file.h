// Files of a shelf that a machine signs.
#pragma once

#include <exception>
#include <memory>
#include <optional>
#include <string>
#include <string_view>
#include <vector>

#include "kestrum/crypto/signature.h"
#include "kestrum/place/place.h"

namespace kestrum {

inline constexpr std::uint64_t kSignedFileLimit = 16 << 20;  // bytes

// FILE and FILE.minisig, begun as FILE.new and FILE.minisig.new: several can be on their way at a
// time, to a place that is far away.
class SignedFile {
 public:
  // What goes wrong is thrown by put(). `place` outlives it.
  SignedFile(Place& place, std::string path, std::string_view text, const SigningKey& key,
             const std::string& comment);
  // Makes both last, and gives them their names. At every moment the signature fits FILE or
  // FILE.new.
  void put();

 private:
  Place& place_;
  std::string path_;
  std::vector<std::unique_ptr<PlaceFile>> files_;
  std::exception_ptr failure_;
};

// The same at once.
void write_signed(Place& place, const std::string& path, std::string_view text,
                  const SigningKey& key, const std::string& comment);
// Finishes a write_signed that was cut: true if FILE.new, which the signature fits, became FILE.
bool finish_signed(Place& place, const std::string& path, const std::vector<VerifyKey>& keys);

// The text of FILE if its signature is by one of `keys` (by anybody, or none, without any); nothing
// if it is not, or cannot be read. Throws Error(kPlace).
std::optional<std::string> read_signed(Place& place, const std::string& path,
                                       const std::vector<VerifyKey>& keys);

// Signs FILE anew, as it is, where its signature is by one of `old` (whoever signed it, without
// any). False if there is none, or it is another's.
bool sign_anew(Place& place, const std::string& path, const std::vector<VerifyKey>& old,
               const SigningKey& key, const std::string& comment);

}  // namespace kestrum
