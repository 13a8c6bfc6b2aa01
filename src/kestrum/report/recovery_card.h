// The card that is printed and put away: with it and the passphrase a shelf opens, by this program
// or by standard tools, even if every copy of the identity on disks is lost.
#pragma once

#include <string>

#include "kestrum/report/sheet.h"

namespace kestrum {

struct RecoveryCard {
  std::string job, host, shelf;  // shelf: its id
  std::string place;             // where it lay when the card was made
  std::string recipient;         // the key that sets are encrypted to (age1...)
  std::string identity;          // the wrapped identity, armoured (age, ASCII)
  std::string date;
};

// An A4 page: how to restore, lines to fill in, the identity as text and as a QR code of that text.
// Throws Error(kFailed) if it is too long for a QR code.
Sheet recovery_card(const RecoveryCard& card);

}  // namespace kestrum
