#include "kestrum/base/data_runs.h"

#include <unistd.h>

#include <algorithm>
#include <cerrno>

namespace kestrum {

std::optional<std::vector<DataRun>> data_runs(int fd, const struct stat& st) {
  auto size = static_cast<std::uint64_t>(st.st_size);
  if (static_cast<std::uint64_t>(st.st_blocks) * 512 >= size) return std::nullopt;
  std::vector<DataRun> runs;
  std::uint64_t at = 0, data = 0;
  while (at < size) {
    off_t begin = ::lseek(fd, static_cast<off_t>(at), SEEK_DATA);
    if (begin < 0 && errno == ENXIO) break;
    off_t end = begin < 0 ? -1 : ::lseek(fd, begin, SEEK_HOLE);
    if (begin < 0 || end < begin) return std::nullopt;  // the filesystem does not tell
    std::uint64_t stop = std::min<std::uint64_t>(static_cast<std::uint64_t>(end), size);
    if (static_cast<std::uint64_t>(begin) >= stop) break;
    runs.push_back({static_cast<std::uint64_t>(begin), stop - static_cast<std::uint64_t>(begin)});
    data += runs.back().length;
    at = stop;
  }
  if (data == size) return std::nullopt;
  return runs;
}

}  // namespace kestrum
