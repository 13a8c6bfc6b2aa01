#include "kestrum/base/own_settings.h"

#include <fcntl.h>
#include <fmt/format.h>
#include <sys/stat.h>

#include <algorithm>
#include <cerrno>

#include "kestrum/base/error.h"
#include "kestrum/base/followed.h"
#include "kestrum/base/own_file.h"
#include "kestrum/base/text.h"

namespace kestrum {
namespace {

constexpr off_t kSettingsLimit = 1 << 18;  // bytes

std::string settings_text(const Fd& fd, const std::string& path, off_t size) {
  std::string text(static_cast<std::size_t>(size), '\0');
  std::size_t got = 0;
  while (got < text.size()) {
    ssize_t n = ::read(fd.get(), text.data() + got, text.size() - got);
    if (n < 0 && errno == EINTR) continue;
    if (n < 0) throw system_error(errno, path, ErrorKind::kUsage);
    if (n == 0) break;
    got += static_cast<std::size_t>(n);
  }
  text.resize(got);
  return text;
}

}  // namespace

void refuse_settings(const std::string& path, const std::string& what, const std::string& hint) {
  throw Error(ErrorKind::kUsage, path + ": " + what, hint).about_path(path);
}

std::optional<toml::table> read_own_settings(const std::string& path) {
  Fd fd = open_named(path, O_RDONLY | O_NONBLOCK | O_NOCTTY);
  struct stat st {};
  if (!fd && errno == ENOENT) return std::nullopt;
  if (!fd || ::fstat(fd.get(), &st) != 0) throw system_error(errno, path, ErrorKind::kUsage);
  require_own(st, path);
  if (!S_ISREG(st.st_mode)) refuse_settings(path, "not a file");
  if ((st.st_mode & 077) != 0) refuse_settings(path, "others can read it", "chmod 600 " + path);
  if (st.st_size > kSettingsLimit) refuse_settings(path, "longer than settings are");
  try {
    return toml::parse(settings_text(fd, path, st.st_size), path);
  } catch (const toml::parse_error& error) {
    refuse_settings(path, fmt::format("line {}: {}", error.source().begin.line,
                                      printable(error.description())));
  }
}

void read_settings(const toml::table& table, const std::string& path, const std::string& before,
                   const SettingsKeys& keys) {
  for (const auto& [key, value] : table) {
    std::string name(key.str()), where = printable(before + name);
    auto known =
        std::find_if(keys.begin(), keys.end(), [&](const auto& k) { return name == k.first; });
    if (known == keys.end()) refuse_settings(path, where + ": no such key");
    if (!value.is_string()) refuse_settings(path, where + ": must be a text");
    *known->second = value.value_or(std::string());
  }
}

}  // namespace kestrum
