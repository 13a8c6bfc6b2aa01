#include "kestrum/base/error.h"

#include <algorithm>
#include <array>
#include <cerrno>
#include <system_error>

namespace kestrum {

Error& Error::add_hint(const std::string& hint) {
  hint_ += (hint_.empty() ? "" : "; ") + hint;
  return *this;
}

Error& Error::about_job(std::string job) {
  if (job_.empty()) job_ = std::move(job);
  return *this;
}

Error& Error::because_newer() {
  newer_ = true;
  return *this;
}

Error& Error::may_come() {
  worth_waiting_ = true;
  return *this;
}

Error& Error::about_path(std::string path) {
  if (path_.empty()) path_ = std::move(path);
  return *this;
}

std::string errno_text(int error_number) {
  if (error_number == kNotRegular) return "not a regular file";
  if (error_number == kForeignLink) return "a link to what its owner does not own is not followed";
  return std::generic_category().message(error_number);
}

Error system_error(int error_number, const std::string& what, ErrorKind kind) {
  bool full = error_number == ENOSPC || error_number == EDQUOT;
  return Error(full ? ErrorKind::kNoRoom : kind, what + ": " + errno_text(error_number),
               full ? "free some room on its disk" : "");
}

int worse_exit(int a, int b) {
  constexpr std::array<int, 11> kOrder = {130, 4, 3, 6, 5, 7, 8, 2, 9, 1, 0};
  auto rank = [&](int code) { return std::find(kOrder.begin(), kOrder.end(), code); };
  return rank(a) <= rank(b) ? a : b;
}

}  // namespace kestrum
