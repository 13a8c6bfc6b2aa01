#include "kestrum/inspect/verify_shelf_files.h"

#include "kestrum/access/unlock.h"
#include "kestrum/base/error.h"
#include "kestrum/base/file.h"

namespace kestrum {
namespace {

Damage damage_of_shelf(const char* file, std::string reason) {
  return {std::nullopt, file, std::move(reason), {}};
}

// Calls `check`; what it throws of the file itself is damage.
template <typename Check>
void guarded(const char* file, std::vector<Damage>& found, const Check& check) {
  try {
    check();
  } catch (const Error& error) {
    if (error.kind() == ErrorKind::kPlace) throw;
    found.push_back(damage_of_shelf(file, error.message()));
  }
}

void check_identity_copies(const OpenShelf& open, std::vector<Damage>& found) {
  std::string expected;
  if (open.state && path_exists(open.state->identity_path())) {
    expected = read_file(open.state->identity_path());
  }
  for (const char* name : {kIdentityFile, kIdentityCopyFile}) {
    guarded(name, found, [&] {
      std::string text = read_small(*open.place, name);
      if (expected.empty()) expected = text;
      if (text == expected) return;
      found.push_back(
          damage_of_shelf(name, "it differs from the other copies of the wrapped identity"));
    });
  }
}

}  // namespace

std::vector<Damage> check_shelf_files(const OpenShelf& open, std::span<const Identity> identities) {
  std::vector<Damage> found;
  const Shelf& shelf = open.shelf;
  const char* unsigned_file = "its signature is not valid";
  if (!shelf.keys().empty()) {
    if (!shelf.label_signed()) found.push_back(damage_of_shelf(kLabelFile, unsigned_file));
    const char* copy = shelf.label().recipient ? "job.toml.age" : "job.toml";
    guarded(copy, found, [&] {
      std::string text = read_small(*open.place, copy);
      std::string signature = read_small(*open.place, std::string(copy) + ".minisig");
      if (signature_valid(as_bytes(text), signature, shelf.keys())) return;
      found.push_back(damage_of_shelf(copy, unsigned_file));
    });
  }
  if (!shelf.label().recipient) return found;
  check_identity_copies(open, found);
  IdentityFile given;
  given.identities.assign(identities.begin(), identities.end());
  if (!given.identities.empty() && !holds_current_key(open, given)) {
    found.push_back(damage_of_shelf(
        kIdentityFile, "no copy that opens holds the key that the newest sets are encrypted to"));
    found.back().no_key = true;
  }
  return found;
}

}  // namespace kestrum
