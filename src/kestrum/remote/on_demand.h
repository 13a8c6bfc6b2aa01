// Libraries that are loaded when they are needed, since they bring many others along, which take as
// long to load as a short command takes for all else.
#pragma once

namespace kestrum {

struct LibraryOnDemand {
  const char* file;  // such as "libcurl.so.4"
  const char* what;  // is spoken to by it
  const char* package;
};

// A function of a library, which is loaded at the first call. Throws Error(kFailed) where it is not
// installed.
void* on_demand(const LibraryOnDemand& library, const char* name);

}  // namespace kestrum

// The function of this name, looked up once.
#define KESTRUM_ON_DEMAND(library, name)                                       \
  ([] {                                                                        \
    static auto* const found =                                                 \
        reinterpret_cast<decltype(name)*>(kestrum::on_demand(library, #name)); \
    return found;                                                              \
  }())
