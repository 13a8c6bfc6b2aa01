#include "kestrum/access/change_keys.h"

#include "kestrum/access/unlock.h"
#include "kestrum/base/file.h"
#include "kestrum/base/host_name.h"
#include "kestrum/crypto/age_stream.h"
#include "kestrum/machine/index.h"

namespace kestrum {
namespace {

// `wrapped` was opened already: the same bytes open again.
void put_copy(Place& place, const std::string& name, const std::string& wrapped) {
  write_small(place, name, wrapped);
  if (read_small(place, name) != wrapped) {
    throw Error(ErrorKind::kDamage,
                place.describe() + "/" + name + ": does not read back as written",
                "the other copies are as they were");
  }
}

// Of the sets that this PC's index took in.
std::vector<Digest> known_seals(const OpenShelf& open) {
  std::vector<Digest> seals;
  try {
    if (!path_exists(open.state->index_path())) return seals;
    Index index(open.state->index_path());
    for (const IndexedSet& set : index.sets()) seals.push_back(set.seal_digest);
  } catch (const std::exception&) {  // also from SQLite: what can be read of the shelf has to do
  }
  return seals;
}

}  // namespace

void rewrap_identity(OpenShelf& open, IdentityFile& identity, const Secret& passphrase,
                     const std::vector<Recipient>& also_for) {
  require_current_key(open, identity);
  ++identity.generation;
  Secret text = identity.to_text();
  std::string wrapped = age_encrypt_armoured(text.view(), passphrase);
  if (age_decrypt(as_bytes(wrapped), passphrase, kIdentityFile) != text) {
    throw Error(ErrorKind::kFailed, "the wrapped identity does not open again");
  }
  if (open.state->record.card_made != 0) {
    open.state->update_record([](ShelfRecord& record) { record.card_outdated = true; });
  }
  open.place->make_folder(kKeysFolder);
  for (const char* name : {kIdentityFile, kIdentityCopyFile}) {
    put_copy(*open.place, name, wrapped);
  }
  if (!also_for.empty()) {
    write_small(*open.place, kDeskIdentityFile, age_encrypt_armoured(text.view(), also_for));
  }
  write_file(open.state->identity_path(), wrapped);
  put_keys_on_earlier_disks(open);
}

void put_known_keys(const ShelfState& state, Place& disk) {
  if (!state.record.keys.recipient || !path_exists(state.identity_path())) return;
  std::string wrapped = read_file(state.identity_path());
  for (const char* name : {kIdentityFile, kIdentityCopyFile}) {
    if (disk.exists(name) && read_small(disk, name) == wrapped) continue;
    disk.make_folder(kKeysFolder);
    put_copy(disk, name, wrapped);
  }
}

void put_keys_on_earlier_disks(const OpenShelf& open) {
  if (!open.earlier) return;
  for (const EarlierDisk& known : open.earlier->all()) {
    if (std::shared_ptr<Place> disk = open.earlier->find(known.number)) {
      put_known_keys(*open.state, *disk);
    }
  }
}

// Every copy holds what is new before anything relies on it, and what is old until nothing does.
void start_new_key(OpenShelf& open, IdentityFile identity, const Secret& passphrase,
                   const std::vector<Recipient>& also_for, Nanos now) {
  identity.identities.insert(identity.identities.begin(), Identity::generate());
  SigningKey key = open.state->next_signing_key();
  std::vector<VerifyKey> old = open.state->record.keys.signers;
  std::erase(old, key.verify_key());
  std::erase_if(identity.signers,
                [&](const auto& signer) { return signer.first == key.verify_key(); });
  identity.signers.insert(identity.signers.begin(), {key.verify_key(), host_name()});
  rewrap_identity(open, identity, passphrase, also_for);
  ShelfLabel label = open.shelf.label();
  label.recipient = identity.identities[0].recipient();
  // The machine believes its record: until the label is written, both keys are right.
  open.state->update_record([&](ShelfRecord& record) {
    record.keys.next_recipient = label.recipient;
    record.keys.signers = old;
    record.keys.signers.push_back(key.verify_key());
  });
  open.state->take_next_signing_key();
  open.shelf.set_keys(open.state->record.keys.signers);
  open.shelf.retire_signers(old, known_seals(open), now, key);
  write_signed(*open.place, kLabelFile, label.to_json(), key, "label of shelf " + label.shelf);
  identity.signers = {{key.verify_key(), host_name()}};
  rewrap_identity(open, identity, passphrase, also_for);
  open.state->update_record([&](ShelfRecord& record) {
    record.keys.recipient = label.recipient;
    record.keys.next_recipient.reset();
    record.keys.signers = {key.verify_key()};
    record.full_because = "the shelf has a new key";
  });
}

}  // namespace kestrum
