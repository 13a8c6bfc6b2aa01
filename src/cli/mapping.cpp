#include "mapping.h"

#include "kestrum/base/error.h"
#include "kestrum/base/file.h"
#include "kestrum/base/text.h"

namespace kestrum::cli {

std::pair<std::string, std::string> parse_mapping(const std::string& text) {
  std::size_t equals = text.find('=');
  if (equals == std::string::npos || equals == 0 || equals + 1 == text.size() || text[0] != '/') {
    throw Error(ErrorKind::kUsage, "--map: \"" + printable(text) + "\" is not OLD=NEW",
                "such as --map /home/olduser=/home/newuser");
  }
  return {absolute_path(text.substr(0, equals)), absolute_path(text.substr(equals + 1))};
}

}  // namespace kestrum::cli
