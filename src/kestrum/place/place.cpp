#include "kestrum/place/place.h"

#include <algorithm>

#include "kestrum/base/error.h"
#include "kestrum/base/file.h"

namespace kestrum {

bool removed_if_allowed(Place& place, const std::function<void()>& removal) {
  try {
    removal();
    return true;
  } catch (const Error& error) {
    if (error.kind() != ErrorKind::kFailed || place.may_remove()) throw;
    return false;
  }
}

bool renamed_if_offered(Place& place, const std::string& from, const std::string& to) {
  try {
    place.rename(from, to);
  } catch (const Error& error) {
    if (error.kind() != ErrorKind::kFailed || place.may_rename()) throw;
    return false;
  }
  place.sync_folder(parent_of(to));
  return true;
}

std::string read_small(Place& place, const std::string& path, std::uint64_t limit) {
  auto source = place.open_whole(path, limit);
  Bytes data = read_all(*source, limit, path);
  return std::string(as_text(data));
}

void Place::overwrite(const std::string& path) {
  if (!exists(path)) return;
  std::uint64_t left = open(path)->size();
  auto file = create(path);
  while (left > 0) {
    Bytes some = noise(std::min(left, kNoiseAtOnce));
    file->write(some);
    left -= some.size();
  }
  file->sync();
}

void copy_bytes(ByteSource& from, PlaceFile& to, const std::function<void(ByteView)>& each) {
  Bytes buffer(1 << 20);
  for (std::uint64_t at = 0; at < from.size();) {
    auto piece = std::span(buffer).first(std::min<std::uint64_t>(buffer.size(), from.size() - at));
    from.read_at(at, piece);
    if (each) each(piece);
    to.write(piece);
    at += piece.size();
  }
  to.sync();
}

void copy_file(Place& place, const std::string& from, const std::string& to) {
  const std::string temporary = to + ".new";
  copy_bytes(*place.open(from), *place.create(temporary));
  place.rename(temporary, to);
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
