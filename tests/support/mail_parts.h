// Reading mails and pages by programs that know nothing of this one.
#pragma once

#include <string>

#include "kestrum/base/json.h"

namespace kestrum::test {

// What Python's parser (RFC 5322, 2045, 2047) makes of a mail: "subject", "from", "to", "date",
// "id", "text", "html", "attachments" by name, and "defects".
Json mail_parts(const std::string& content);

}  // namespace kestrum::test
