#include "kestrum/crypto/password_file.h"

#include <fcntl.h>
#include <sys/stat.h>

#include <cerrno>

#include "kestrum/base/error.h"
#include "kestrum/base/followed.h"
#include "kestrum/base/own_file.h"

namespace kestrum {
namespace {

constexpr std::size_t kPasswordLimit = 4096;  // bytes

}  // namespace

Secret read_password(const std::string& path) {
  Fd fd = open_named(path, O_RDONLY | O_NOCTTY | O_NONBLOCK);
  struct stat st {};
  if (!fd || ::fstat(fd.get(), &st) != 0) throw system_error(errno, path);
  require_own(st, path);
  if (!S_ISREG(st.st_mode) || (st.st_mode & 077) != 0) {
    throw Error(ErrorKind::kUsage, path + ": others can read this password");
  }
  Secret secret = read_secret(fd.get(), path, kPasswordLimit);
  if (!secret.empty() && secret.text().ends_with('\n')) secret.pop_back();
  return secret;
}

}  // namespace kestrum
