// A mail: plain text and HTML, as people are told how their jobs stand.
#pragma once

#include <string>
#include <string_view>
#include <vector>

#include "kestrum/base/nanos.h"

namespace kestrum {

struct MailMessage {
  std::vector<std::string> to;  // addresses
  std::string subject;          // one line, UTF-8
  std::string text, html;       // UTF-8
  // A page to go with it; empty: none.
  std::string page_name, page;
  Nanos made = 0;
  std::string id;  // without angle brackets, the same at every try

  std::string to_json() const;
  // Throws Error(kDamage) naming `what`.
  static MailMessage parse(std::string_view json, const std::string& what);
};

// A new id at this PC.
std::string new_message_id(const std::string& host);

// A text of a header: as it is if it is plain, in encoded words (RFC 2047) otherwise. Line breaks
// and other control characters become blanks.
std::string header_text(const std::string& text);
// "Mon, 02 Mar 2026 21:00:00 +0000" (RFC 5322, section 3.3).
std::string header_date(Nanos time);

}  // namespace kestrum
