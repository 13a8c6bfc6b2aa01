# Finds the BLAKE3 C library: the distribution's own (libblake3-dev) where there is one, otherwise
# the C and assembly sources that librust-blake3-dev installs, compiled here.
# Defines the target BLAKE3::BLAKE3.
find_path(BLAKE3_INCLUDE_DIR blake3.h)
find_library(BLAKE3_LIBRARY blake3)
if(BLAKE3_INCLUDE_DIR AND BLAKE3_LIBRARY)
  add_library(BLAKE3::BLAKE3 UNKNOWN IMPORTED)
  set_target_properties(BLAKE3::BLAKE3 PROPERTIES IMPORTED_LOCATION ${BLAKE3_LIBRARY}
                        INTERFACE_INCLUDE_DIRECTORIES ${BLAKE3_INCLUDE_DIR})
  set(BLAKE3_FOUND TRUE)
else()
  file(GLOB blake3_folders /usr/share/cargo/registry/blake3-*/c)
  list(POP_BACK blake3_folders blake3_source)
  if(blake3_source)
    set(blake3_files ${blake3_source}/blake3.c ${blake3_source}/blake3_dispatch.c
        ${blake3_source}/blake3_portable.c)
    if(CMAKE_SYSTEM_PROCESSOR MATCHES "x86_64|AMD64")
      foreach(isa sse2 sse41 avx2 avx512)
        list(APPEND blake3_files ${blake3_source}/blake3_${isa}_x86-64_unix.S)
      endforeach()
    elseif(CMAKE_SYSTEM_PROCESSOR MATCHES "aarch64")
      list(APPEND blake3_files ${blake3_source}/blake3_neon.c)
    endif()
    add_library(blake3_from_source STATIC ${blake3_files})
    # The compression loops are written for the optimiser; sanitizers have nothing to say there.
    target_compile_options(blake3_from_source PRIVATE -O3 -fno-sanitize=all)
    target_include_directories(blake3_from_source SYSTEM PUBLIC ${blake3_source})
    add_library(BLAKE3::BLAKE3 ALIAS blake3_from_source)
    set(BLAKE3_FOUND TRUE)
  endif()
endif()
include(FindPackageHandleStandardArgs)
find_package_handle_standard_args(BLAKE3 REQUIRED_VARS BLAKE3_FOUND)
