// Which of the ways to secure a connection of SSH (RFC 4253, section 6.4) are asked for, and in
// which order.
#pragma once

#include <string>
#include <vector>

namespace kestrum {

// Names of the message authentication codes that are sound, the quickest on this processor first.
// Which that is differs by the factor two in either direction: SHA-256 where the processor has
// instructions for it, else SHA-512. They are timed once, in less than two milliseconds.
std::vector<std::string> message_codes_by_speed();

}  // namespace kestrum
