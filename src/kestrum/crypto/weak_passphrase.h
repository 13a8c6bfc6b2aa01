// Passphrases that are guessed first.
#pragma once

#include <optional>
#include <string>

#include "kestrum/crypto/secret.h"

namespace kestrum {

// Why a passphrase is too easy to guess, a clause: "it has fewer than 8 characters". Nothing if
// nothing speaks against it, which says little.
std::optional<std::string> why_weak(const Secret& passphrase);

}  // namespace kestrum
