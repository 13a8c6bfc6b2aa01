// POSIX access control lists as tar carries them.
#pragma once

#include <string>

namespace kestrum {

// The value of a system.posix_acl_* attribute (version 2, linux/posix_acl_xattr.h) as text:
// "user::rw-,user:1000:r--,group::r--". Empty if the value is malformed.
std::string acl_text(const std::string& raw_xattr);

}  // namespace kestrum
