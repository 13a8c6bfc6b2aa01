#include "kestrum/place/place.h"

#include "kestrum/base/error.h"
#include "kestrum/base/file.h"

namespace kestrum {

std::string read_small(Place& place, const std::string& path, std::uint64_t limit) {
  auto source = place.open(path);
  Bytes data = read_all(*source, limit, path);
  return std::string(as_text(data));
}

void write_small(Place& place, const std::string& path, std::string_view text) {
  std::string temporary = path + ".new";
  {
    auto file = place.create(temporary);
    file->write(as_bytes(text));
    file->sync();
  }
  place.rename(temporary, path);
  place.sync_folder(parent_of(path));
}

}  // namespace kestrum
