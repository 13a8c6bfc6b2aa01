// Where a file with holes holds data.
#pragma once

#include <sys/stat.h>

#include <cstdint>
#include <optional>
#include <vector>

namespace kestrum {

// A stretch of a file that holds data, in bytes.
struct DataRun {
  std::uint64_t offset = 0, length = 0;
};

// The stretches of an open file, in order, if it has holes worth keeping; nothing for an ordinary
// file, and where the filesystem does not tell.
std::optional<std::vector<DataRun>> data_runs(int fd, const struct stat& st);

}  // namespace kestrum
