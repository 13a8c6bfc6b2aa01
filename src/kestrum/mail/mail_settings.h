// How mail goes out, for all jobs: <config>/mail.toml.
//
//   server        = "smtp://mail.example.org:587"   # or "smtps://mail.example.org:465"
//   from          = "backups@example.org"
//   user          = "backups"                       # "": without a login
//   password_from = "/etc/kestrum/mail.password"    # a file that nobody else can read
//   tls           = "on"                            # "off" for a server on this machine
//   ca            = ""                              # a file of certificates, beside the system's
#pragma once

#include <optional>
#include <string>

#include "kestrum/job/job_store.h"

namespace kestrum {

struct MailSettings {
  std::string server;  // a URL of scheme smtp or smtps
  std::string from;    // an address
  std::string user, password_from;
  bool tls = true;  // certificates are checked
  std::string ca;   // absolute path; empty: the system's

  bool on_this_machine() const;  // its server
};

std::string mail_settings_path(const Home& home);

// Nothing if there is no such file. Throws Error(kUsage) naming file and key for what is wrong,
// also if others can read it.
std::optional<MailSettings> load_mail_settings(const Home& home);

}  // namespace kestrum
