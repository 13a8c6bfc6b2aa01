// What `kestrum restore` was asked for.
#pragma once

#include <optional>
#include <string>
#include <vector>

#include "args.h"
#include "context.h"
#include "kestrum/restore/bundle.h"
#include "kestrum/restore/restore_request.h"

namespace kestrum::cli {

inline constexpr const char* kRestoreUsage =
    "kestrum restore NAME [PATH...] --to DIR | --in-place [--point TIME]";

struct RestoreArgs {
  RestoreRequest request;               // `ask` is left to the caller
  std::optional<BundleRequest> bundle;  // for --as-tar and --as-zip, without its passphrase
  std::vector<std::string> paths;
  std::size_t typed = 0;   // of the paths, the rest are --names-in's
  bool to_stream = false;  // to standard output
};

// Throws Error(kUsage) for what does not go together.
RestoreArgs read_restore_args(const Context& context, const Args& args);

}  // namespace kestrum::cli
