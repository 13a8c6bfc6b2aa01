// A connection to a port of a host.
#pragma once

#include <cstdint>
#include <string>

#include "kestrum/base/file.h"
#include "kestrum/base/nanos.h"

namespace kestrum {

// By the first of the host's addresses that answers within `timeout` nanoseconds. None if nobody
// does; `problem` says why. It does not block, and breaks where what was sent stays unacknowledged
// for a minute.
Fd connect_tcp(const std::string& host, std::uint16_t port, Nanos timeout, std::string& problem);

// Has what comes next acknowledged at once: many servers send small packets one by one, each only
// when the one before is acknowledged, and the system waits 40 ms with that unless it is told not
// to.
void acknowledge_at_once(int socket);

// Whether the other end has not ended it, as far as this one knows.
bool is_connected(int socket);

}  // namespace kestrum
