#include "kestrum/access/unlock.h"

#include <algorithm>
#include <type_traits>

#include "kestrum/base/error.h"
#include "kestrum/base/file.h"
#include "kestrum/crypto/age_stream.h"

namespace kestrum {
namespace {

constexpr std::uint64_t kIdentityLimit = 1 << 20;

// What the copies on the shelf and this machine's own hold together. Copies that are the same are
// tried once: a passphrase takes its time.
template <typename Key>
IdentityFile unlock_any(OpenShelf& open, const std::vector<std::string>& names, bool own_copy,
                        const Key& key) {
  std::vector<std::pair<std::string, std::string>> copies;  // what it is, and its text
  std::optional<Error> unreadable, wrong;
  auto collect = [&](const std::string& what, const auto& read) {
    try {
      std::string text = read();
      bool known = std::any_of(copies.begin(), copies.end(),
                               [&](const auto& copy) { return copy.second == text; });
      if (!known) copies.emplace_back(what, std::move(text));
    } catch (const Error& error) {
      if (!unreadable) unreadable = error;
    }
  };
  for (const auto& name : names) {
    collect(name, [&] { return read_small(*open.place, name, kIdentityLimit); });
  }
  if (own_copy && open.state && path_exists(open.state->identity_path())) {
    collect(open.state->identity_path(),
            [&] { return read_file(open.state->identity_path(), kIdentityLimit); });
  }
  std::optional<IdentityFile> all;
  for (const auto& [what, text] : copies) {
    try {
      IdentityFile file = IdentityFile::parse(age_decrypt(as_bytes(text), key, what), what);
      if (file.shelf != open.shelf.label().shelf) {
        unreadable = Error(ErrorKind::kDamage, what + ": it belongs to another shelf");
      } else if (!all) {
        all = std::move(file);
      } else if (!holds_current_key(open, *all) && holds_current_key(open, file)) {
        file.add(*all);  // newest first
        all = std::move(file);
      } else {
        all->add(file);
      }
    } catch (const Error& error) {
      (error.kind() == ErrorKind::kPassphrase ? wrong : unreadable) = error;
    }
  }
  if (all) return std::move(*all);
  if (wrong) {
    throw Error(ErrorKind::kPassphrase,
                std::is_same_v<Key, Secret>
                    ? "the passphrase of " + open.shelf.label().job + " is wrong"
                    : "this key does not open " + open.shelf.label().job,
                "nothing was read or written");
  }
  if (unreadable) throw *unreadable;
  throw Error(ErrorKind::kDamage, open.path + ": no identity file that can be read");
}

IdentityFile trust_keys_of(OpenShelf& open, IdentityFile file) {
  // The passphrase vouches for the machines that may sign.
  if (!open.state || !open.read_only.empty()) open.shelf.set_keys(file.keys());
  if (open.state) {
    open.state->update_record([](ShelfRecord& record) { record.last_unlocked = calendar_now(); });
  }
  return file;
}

}  // namespace

bool holds_current_key(const OpenShelf& open, const IdentityFile& identity) {
  const std::optional<Recipient>& current =
      open.state ? open.state->record.keys.recipient : open.shelf.label().recipient;
  return !current || identity.opens(*current);
}

Error keys_are_older(const OpenShelf& open) {
  return Error(ErrorKind::kDamage,
               "no copy of the keys that opens holds the key that " + open.shelf.label().job +
                   " is encrypted to now",
               "an older keys/ folder was put back: the newest one, or this PC's own copy, is "
               "needed; the keys are as they were")
      .about_path(open.path);
}

void require_current_key(const OpenShelf& open, const IdentityFile& identity) {
  if (!holds_current_key(open, identity)) throw keys_are_older(open);
}

IdentityFile unlock_shelf(OpenShelf& open, const Secret& passphrase) {
  return trust_keys_of(open,
                       unlock_any(open, {kIdentityFile, kIdentityCopyFile}, true, passphrase));
}

IdentityFile unlock_with_tries(OpenShelf& open, Secret& passphrase,
                               const std::function<std::optional<Secret>()>& again) {
  for (;;) {
    try {
      return unlock_shelf(open, passphrase);
    } catch (const Error& error) {
      if (error.kind() != ErrorKind::kPassphrase || !again) throw;
      auto next = again();
      if (!next) throw;
      passphrase = std::move(*next);
    }
  }
}

IdentityFile unlock_shelf_with_key_file(OpenShelf& open, std::span<const Identity> identities,
                                        const std::optional<std::string>& signer) {
  IdentityFile file = trust_keys_of(open, unlock_any(open, {kDeskIdentityFile}, false, identities));
  if (open.state) return file;
  open.signers_unknown = !signer;
  if (!signer) return file;
  std::vector<VerifyKey> named = file.keys();
  std::erase_if(named, [&](const VerifyKey& key) { return key.fingerprint() != *signer; });
  if (named.empty()) {
    throw Error(ErrorKind::kDamage,
                open.path + ": nobody with this fingerprint signs it: " + *signer,
                "it may be a forgery; nothing was read")
        .about_path(open.path);
  }
  open.shelf.set_keys(named);
  return file;
}

}  // namespace kestrum
