#include "support/large_files.h"

#include <fcntl.h>
#include <gtest/gtest.h>
#include <unistd.h>

#include <algorithm>
#include <filesystem>
#include <vector>

#include "kestrum/base/file.h"
#include "support/temp_folder.h"

namespace kestrum::test {

namespace fs = std::filesystem;

void LargeFiles::edit() {
  if (!fs::is_directory(fs::symlink_status(folder_))) fs::remove(folder_);
  fs::create_directories(folder_);
  for (int steps = 1 + below(3); steps > 0; --steps) step();
}

std::string LargeFiles::some_file() {
  std::vector<std::string> files;
  for (const auto& entry : fs::directory_iterator(folder_)) {
    if (entry.is_regular_file() && !entry.is_symlink()) files.push_back(entry.path());
  }
  std::sort(files.begin(), files.end());
  if (files.empty()) return "";
  return files[static_cast<std::size_t>(below(static_cast<int>(files.size())))];
}

void LargeFiles::make() {
  auto size = 1 + random_() % limits_.bytes;
  put_file(folder_ + "/" + std::to_string(below(3 * limits_.files)),
           noise(size, static_cast<unsigned>(random_())));
}

void LargeFiles::step() {
  std::string path = some_file();
  auto files = static_cast<int>(std::distance(fs::directory_iterator(folder_), {}));
  bool more = files * 2 < limits_.files || (files < limits_.files && below(12) == 0);
  if (path.empty() || more) return make();
  switch (below(12)) {
    case 0:
      fs::rename(path, folder_ + "/" + std::to_string(below(3 * limits_.files)));
      return;
    case 1:
      fs::remove(path);
      return;
    case 2:
      if (files >= limits_.files || path == folder_ + "/link") return;
      fs::remove(folder_ + "/link");
      fs::create_hard_link(path, folder_ + "/link");
      return;
    case 3:
      return make_holes(path);
    case 4:
      if (files >= limits_.files || path == folder_ + "/copy") return;
      fs::remove(folder_ + "/copy");
      fs::copy_file(path, folder_ + "/copy");
      return change(folder_ + "/copy");
    default:
      return change(path);
  }
}

// The second half of it goes, and there are holes before and behind the first.
void LargeFiles::make_holes(const std::string& path) {
  std::string content = read_file(path);
  fs::remove(path);
  Fd fd(::open(path.c_str(), O_WRONLY | O_CREAT | O_CLOEXEC, 0644));
  std::size_t half = content.size() / 2;
  EXPECT_EQ(::ftruncate(fd.get(), static_cast<off_t>(half + 2'000'000)), 0);
  EXPECT_EQ(::pwrite(fd.get(), content.data(), half, 500'000), static_cast<ssize_t>(half));
}

void LargeFiles::change(const std::string& path) {
  std::string content = read_file(path);
  std::size_t at = random_() % (content.size() + 1),
              length = std::min<std::size_t>(content.size() - at, random_() % 300'000);
  auto some_noise = [&](int most) {
    auto size = static_cast<std::size_t>(below(most));
    return noise(size, static_cast<unsigned>(random_()));
  };
  switch (below(8)) {
    case 0:
      content.insert(at, some_noise(200));
      break;
    case 1:
      content.erase(at, length);
      break;
    case 2:
      content += some_noise(500'000);
      break;
    case 3:
      std::rotate(content.begin(), content.begin() + static_cast<std::ptrdiff_t>(at),
                  content.end());
      break;
    case 4:
      content.insert(at, content.substr(0, length));
      break;
    case 5:
      content.insert(at, std::string(static_cast<std::size_t>(below(900'000)), '\0'));
      break;
    default:
      for (int i = 0; i < 5 && !content.empty(); ++i) content[random_() % content.size()] ^= 1;
  }
  content.resize(std::min<std::size_t>(content.size(), 2 * limits_.bytes));
  put_file(path, content);
}

}  // namespace kestrum::test
