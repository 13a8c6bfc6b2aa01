// The plaintext of keys/identity.age: the shelf's age identities, and in comment lines the keys of
// the machines that may sign, so that the passphrase vouches for them.
//
//   # kestrum shelf 3f0c...
//   # generation 4
//   # signing key RWQ... of front-desk-pc
//   AGE-SECRET-KEY-1...
#pragma once

#include <string>
#include <vector>

#include "kestrum/crypto/age_keys.h"
#include "kestrum/crypto/signature.h"

namespace kestrum {

struct IdentityFile {
  std::string shelf;  // UUID
  // Counts up whenever it is wrapped anew: of two copies the higher one says who may sign.
  std::uint64_t generation = 0;
  std::vector<std::pair<VerifyKey, std::string>> signers;  // key, host
  std::vector<Identity> identities;                        // newest first

  Secret to_text() const;
  // Throws Error(kDamage) or Error(kPassphrase) naming `what`.
  static IdentityFile parse(const Secret& text, const std::string& what);
  std::vector<VerifyKey> keys() const;
  bool opens(const Recipient& recipient) const;
  // Takes over the identities that the other has and this has not, behind those that are here, and
  // its signers if it is newer; of the same generation those of both may sign.
  void add(const IdentityFile& other);
};

}  // namespace kestrum
