// Opening the keys of a shelf.
#pragma once

#include <functional>
#include <optional>
#include <span>
#include <string>

#include "kestrum/access/open_shelf.h"
#include "kestrum/base/error.h"
#include "kestrum/crypto/secret.h"
#include "kestrum/shelf/identity_file.h"

namespace kestrum {

// Opens the shelf's identity with the passphrase, or with an age identity of the support desk's:
// all that the shelf's two copies and this machine's own hold together, since any of them may have
// been set back to an older one. Throws Error(kPassphrase) if it opens none.
IdentityFile unlock_shelf(OpenShelf& open, const Secret& passphrase);
// The same, and as often as `again` gives another passphrase after a wrong one. The right one is in
// `passphrase` then.
IdentityFile unlock_with_tries(OpenShelf& open, Secret& passphrase,
                               const std::function<std::optional<Secret>()>& again);
// Anybody can encrypt to a key file: of a shelf that this PC does not know, who signs is unknown
// (OpenShelf::signers_unknown) unless `signer` is the fingerprint of one of them, who is then the
// only one that may. Throws Error(kDamage) if it is none's.
IdentityFile unlock_shelf_with_key_file(OpenShelf& open, std::span<const Identity> identities,
                                        const std::optional<std::string>& signer);

// What to tell where the copies of the keys are older than the shelf.
Error keys_are_older(const OpenShelf& open);

// Whether `identity` holds the key that the shelf is encrypted to now: the one this PC has pinned,
// otherwise the one in the label.
bool holds_current_key(const OpenShelf& open, const IdentityFile& identity);
// Throws Error(kDamage) if it does not. Nothing is wrapped anew without it.
void require_current_key(const OpenShelf& open, const IdentityFile& identity);

}  // namespace kestrum
