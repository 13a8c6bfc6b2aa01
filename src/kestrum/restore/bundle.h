// Chosen files as one tar or zip file, for handing on.
#pragma once

#include <functional>
#include <memory>
#include <optional>
#include <string>

#include "kestrum/crypto/secret.h"
#include "kestrum/restore/restore.h"

namespace kestrum {

enum class BundleKind { kTar, kZip };

struct BundleRequest {
  BundleKind kind = BundleKind::kTar;
  std::string file;                  // must not exist
  std::optional<Secret> passphrase;  // makes it an age file with a passphrase of its own
  Layout layout = Layout::kTrimmed;
  StopRequest stop;
};

// Writes the file under a temporary name and gives it its own when it is complete. A tar holds all
// that a restore gives; a zip holds files, folders and links with names in UTF-8 (others escaped),
// times and modes. Damaged files are reported and left out. Throws Error(kUsage) if the file
// exists.
RestoreResult write_bundle(ReadSession& session, RestoreSelection& selection,
                           const BundleRequest& request, RestoreObserver& observer);

}  // namespace kestrum
