#include "support/temp_folder.h"

#include <sys/stat.h>

#include <cstdlib>
#include <filesystem>
#include <fstream>
#include <random>
#include <stdexcept>

namespace kestrum::test {
namespace fs = std::filesystem;

TempFolder::TempFolder(const std::string& where) {
  fs::path in = where.empty() ? fs::temp_directory_path() : fs::path(where);
  std::string pattern = (in / "kestrum-test-XXXXXX").string();
  if (::mkdtemp(pattern.data()) == nullptr) throw std::runtime_error("mkdtemp");
  path_ = fs::canonical(pattern).string();
}

TempFolder::~TempFolder() {
  std::error_code ec;
  for (fs::recursive_directory_iterator it(path_, ec), end; !ec && it != end; it.increment(ec)) {
    if (!it->is_symlink() && it->is_directory())
      fs::permissions(it->path(), fs::perms::owner_all, ec);
  }
  fs::remove_all(path_, ec);
}

void put_file(const std::string& path, const std::string& content, mode_t mode) {
  fs::create_directories(fs::path(path).parent_path());
  std::ofstream(path, std::ios::binary) << content;
  ::chmod(path.c_str(), mode);
}

std::string noise(std::size_t size, unsigned seed) {
  std::mt19937_64 random(seed);
  std::string bytes(size, '\0');
  for (std::size_t i = 0; i < size; i += 8) {
    std::uint64_t word = random();
    for (std::size_t k = 0; k < 8 && i + k < size; ++k)
      bytes[i + k] = static_cast<char>(word >> (8 * k));
  }
  return bytes;
}

}  // namespace kestrum::test
