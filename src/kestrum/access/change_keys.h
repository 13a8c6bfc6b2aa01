// Changing the passphrase of a shelf, or its key.
#pragma once

#include <string>
#include <vector>

#include "kestrum/access/open_shelf.h"
#include "kestrum/access/unlock.h"
#include "kestrum/crypto/secret.h"

namespace kestrum {

// Writes the identity wrapped by `passphrase` over every copy, the shelf's two, the desk's and this
// machine's, one after the other: each is read back and opened before the next is touched, so that
// at every moment a copy opens with the old or with the new passphrase.
void rewrap_identity(OpenShelf& open, const IdentityFile& identity, const Secret& passphrase,
                     const std::vector<Recipient>& also_for);

// A new key for the sets to come, the old one kept for those that are there: the next set is full.
// `identity` is the shelf's, as it was unlocked.
void start_new_key(OpenShelf& open, IdentityFile identity, const Secret& passphrase,
                   const std::vector<Recipient>& also_for);

}  // namespace kestrum
