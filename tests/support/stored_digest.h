// The digest that a seal has of a file with this content.
#pragma once

#include <string>

#include "kestrum/archive/block_digests.h"

namespace kestrum::test {

inline Digest stored_digest(const std::string& content) {
  BlockDigester digester;
  digester.update(as_bytes(content));
  return digest_of_blocks(digester.finish());
}

}  // namespace kestrum::test
