// Mail that is to go out: <state>/mail/<number>.mail, kept until a server has taken it.
#pragma once

#include <string>
#include <vector>

#include "kestrum/base/nanos.h"
#include "kestrum/mail/mail_settings.h"
#include "kestrum/mail/message.h"

namespace kestrum {

class Outbox {
 public:
  explicit Outbox(const Home& home) : folder_(home.state + "/mail") {}

  // Throws Error if it cannot be kept. Of more than 200 the oldest go.
  void put(const MailMessage& message) const;
  std::size_t waiting() const;

  struct Sent {
    std::size_t sent = 0, left = 0;
    std::string problem;  // why one did not go; empty if all did
  };
  // The oldest first, within `limit` nanoseconds in all; ends where no server can be had, and goes
  // on behind one that it refuses. What somebody else is sending is left alone. Never throws.
  Sent send(const MailSettings& settings, Nanos limit) const;

 private:
  std::vector<std::string> names() const;  // in order
  std::string folder_;
};

}  // namespace kestrum
