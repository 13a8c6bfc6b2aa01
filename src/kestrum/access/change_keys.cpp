#include "kestrum/access/change_keys.h"

#include "kestrum/access/unlock.h"
#include "kestrum/base/file.h"
#include "kestrum/crypto/age_stream.h"

namespace kestrum {
namespace {

void put_copy(Place& place, const std::string& name, const std::string& wrapped,
              const Secret& passphrase, const Secret& text) {
  write_small(place, name, wrapped);
  std::string read = read_small(place, name);
  if (read != wrapped || age_decrypt(as_bytes(read), passphrase, name) != text) {
    throw Error(ErrorKind::kDamage,
                place.describe() + "/" + name + ": does not read back as written",
                "the other copies are as they were");
  }
}

}  // namespace

void rewrap_identity(OpenShelf& open, const IdentityFile& identity, const Secret& passphrase,
                     const std::vector<Recipient>& also_for) {
  require_current_key(open, identity);
  Secret text = identity.to_text();
  std::string wrapped = age_encrypt_armoured(text.view(), passphrase);
  if (age_decrypt(as_bytes(wrapped), passphrase, kIdentityFile) != text) {
    throw Error(ErrorKind::kFailed, "the wrapped identity does not open again");
  }
  open.place->make_folder("keys");
  for (const char* name : {kIdentityFile, kIdentityCopyFile}) {
    put_copy(*open.place, name, wrapped, passphrase, text);
  }
  if (!also_for.empty()) {
    write_small(*open.place, kDeskIdentityFile, age_encrypt_armoured(text.view(), also_for));
  }
  write_file(open.state->identity_path(), wrapped);
}

void start_new_key(OpenShelf& open, IdentityFile identity, const Secret& passphrase,
                   const std::vector<Recipient>& also_for) {
  identity.identities.insert(identity.identities.begin(), Identity::generate());
  // Every copy holds the new identity before anything is encrypted to it.
  rewrap_identity(open, identity, passphrase, also_for);
  ShelfLabel label = open.shelf.label();
  label.recipient = identity.identities[0].recipient();
  // The machine believes its record: until the label is written, both keys are right.
  open.state->update_record(
      [&](ShelfRecord& record) { record.keys.next_recipient = label.recipient; });
  write_signed(*open.place, kLabelFile, label.to_json(), open.state->signing_key(),
               "label of shelf " + label.shelf);
  open.state->update_record([&](ShelfRecord& record) {
    record.keys.recipient = label.recipient;
    record.keys.next_recipient.reset();
    record.full_because = "the shelf has a new key";
  });
}

}  // namespace kestrum
