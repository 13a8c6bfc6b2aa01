// Sending a mail by SMTP (RFC 5321), through libcurl.
#pragma once

#include <string>

#include "kestrum/mail/mail_settings.h"
#include "kestrum/mail/message.h"

namespace kestrum {

struct SendResult {
  bool sent = false;
  bool refused = false;  // the server took the greeting, and not this mail
  std::string reason;    // why it was not sent
};

// Never throws. Takes at most `limit` nanoseconds, whatever the server does or does not do.
SendResult send_mail(const MailSettings& settings, const MailMessage& message, Nanos limit);

// Connects and logs in as send_mail does, and sends nothing: why that does not work, empty if it
// does.
std::string why_no_server(const MailSettings& settings, Nanos limit);

}  // namespace kestrum
