#include "kestrum/remote/on_demand.h"

#include <dlfcn.h>
#include <fmt/format.h>

#include "kestrum/base/error.h"

namespace kestrum {

void* on_demand(const LibraryOnDemand& library, const char* name) {
  // Kept for good: the same handle each time.
  void* loaded = ::dlopen(library.file, RTLD_NOW | RTLD_LOCAL);
  void* symbol = loaded == nullptr ? nullptr : ::dlsym(loaded, name);
  if (symbol != nullptr) return symbol;
  const char* why = ::dlerror();
  throw Error(ErrorKind::kFailed,
              fmt::format("{} by {}, which cannot be loaded{}", library.what, library.file,
                          why == nullptr ? "" : std::string(": ") + why),
              fmt::format("install it: apt-get install {}", library.package));
}

}  // namespace kestrum
