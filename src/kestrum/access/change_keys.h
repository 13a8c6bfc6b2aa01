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
// at every moment a copy opens with the old or with the new passphrase. `identity` is of another
// generation afterwards.
void rewrap_identity(OpenShelf& open, IdentityFile& identity, const Secret& passphrase,
                     const std::vector<Recipient>& also_for);

// Both copies of the identity on a disk of the shelf as this PC has it, where they are others.
void put_known_keys(const ShelfState& state, Place& disk);
// The same on the disks that the shelf has filled, as far as they are plugged in.
void put_keys_on_earlier_disks(const OpenShelf& open);

// A new key for the sets to come, the old one kept for those that are there: the next set is full.
// This PC signs with a new key too; what the old one signed up to now is listed, and stays valid.
// `identity` is the shelf's, as it was unlocked. After a crash both keys may sign until it is done
// again: record.keys.signers has more than one.
void start_new_key(OpenShelf& open, IdentityFile identity, const Secret& passphrase,
                   const std::vector<Recipient>& also_for, Nanos now);

}  // namespace kestrum
