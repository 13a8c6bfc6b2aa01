// What passes from one thread to another through a library that ThreadSanitizer cannot look into.
// Nothing at all in any other build.
#pragma once

#if defined(__SANITIZE_THREAD__)
extern "C" void __tsan_acquire(void* address);
extern "C" void __tsan_release(void* address);
#endif

namespace kestrum {

// Before an object is given away: what was done so far happens before received() of the same
// address by whoever gets it. Only where the library promises so.
inline void happens_before([[maybe_unused]] const void* object) {
#if defined(__SANITIZE_THREAD__)
  __tsan_release(const_cast<void*>(object));
#endif
}
inline void happens_after([[maybe_unused]] const void* object) {
#if defined(__SANITIZE_THREAD__)
  __tsan_acquire(const_cast<void*>(object));
#endif
}

}  // namespace kestrum
