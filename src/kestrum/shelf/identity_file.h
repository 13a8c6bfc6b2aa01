// The plaintext of keys/identity.age: the shelf's age identities, and in comment lines the keys of
// the machines that may sign, so that the passphrase vouches for them.
//
//   # kestrum shelf 3f0c...
//   # signing key RWQ... of front-desk-pc
//   AGE-SECRET-KEY-1...
#pragma once

#include <string>
#include <vector>

#include "kestrum/crypto/age_keys.h"
#include "kestrum/crypto/signature.h"

namespace kestrum {

struct IdentityFile {
  std::string shelf;                                       // UUID
  std::vector<std::pair<VerifyKey, std::string>> signers;  // key, host
  std::vector<Identity> identities;                        // newest first

  Secret to_text() const;
  // Throws Error(kDamage) or Error(kPassphrase) naming `what`.
  static IdentityFile parse(const Secret& text, const std::string& what);
  std::vector<VerifyKey> keys() const;
  bool opens(const Recipient& recipient) const;
  // Takes over what the other has and this has not, behind what is here.
  void add(const IdentityFile& other);
};

}  // namespace kestrum
