// Which of the ways to secure a connection of SSH (RFC 4253, sections 6.3 and 6.4) are asked for,
// and in which order: sound ones, the quickest on this processor first. They are timed once, in
// less than two milliseconds.
#pragma once

#include <string>

namespace kestrum {

// Names, with commas between them. AES with GCM where the processor has instructions for it, else
// ChaCha20 (RFC 5647, and the cipher of OpenSSH's PROTOCOL.chacha20poly1305); then those that need
// a code beside them.
std::string ciphers_by_speed();

// Of the message authentication codes. Which is the quicker differs by the factor two in either
// direction: SHA-256 where the processor has instructions for it, else SHA-512.
std::string message_codes_by_speed();

}  // namespace kestrum
