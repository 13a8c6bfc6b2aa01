// A folder for one test, removed with all in it.
#pragma once

#include <sys/types.h>

#include <string>

namespace kestrum::test {

class TempFolder {
 public:
  // In the folder for such files, or in another one.
  explicit TempFolder(const std::string& where = "");
  ~TempFolder();
  TempFolder(const TempFolder&) = delete;
  TempFolder& operator=(const TempFolder&) = delete;
  const std::string& path() const { return path_; }
  std::string operator/(const std::string& name) const { return path_ + "/" + name; }

 private:
  std::string path_;
};

void put_file(const std::string& path, const std::string& content, mode_t mode = 0644);
// Bytes that do not compress, the same for the same seed.
std::string noise(std::size_t size, unsigned seed);

}  // namespace kestrum::test
