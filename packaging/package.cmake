# `make package`: a Debian package, by CPack. What it needs is found by dpkg-shlibdeps.
include(GNUInstallDirs)
find_program(GZIP gzip REQUIRED)

set(packaged "${CMAKE_BINARY_DIR}/packaged")
file(MAKE_DIRECTORY "${packaged}")
# Compressed without the time, so that equal sources make equal files.
add_custom_command(OUTPUT "${packaged}/kestrum.1.gz"
  COMMAND sh -c "'$<TARGET_FILE:kestrum>' --man | '${GZIP}' -9n > '${packaged}/kestrum.1.gz'"
  DEPENDS kestrum VERBATIM)
add_custom_command(OUTPUT "${packaged}/changelog.gz"
  COMMAND sh -c "'${GZIP}' -9nc '${CMAKE_SOURCE_DIR}/packaging/changelog' > '${packaged}/changelog.gz'"
  DEPENDS packaging/changelog VERBATIM)
add_custom_target(packaged_files ALL DEPENDS "${packaged}/kestrum.1.gz" "${packaged}/changelog.gz")

install(FILES "${packaged}/kestrum.1.gz" DESTINATION ${CMAKE_INSTALL_MANDIR}/man1)
install(FILES packaging/kestrum.bash DESTINATION share/bash-completion/completions RENAME kestrum)
install(FILES packaging/_kestrum DESTINATION share/zsh/vendor-completions)
install(FILES packaging/kestrum.service packaging/kestrum.timer DESTINATION lib/systemd/system)
install(FILES "${packaged}/changelog.gz" docs/manual.md docs/format.md docs/by-hand.md
        packaging/copyright DESTINATION share/doc/kestrum)

set(CPACK_GENERATOR DEB)
set(CPACK_PACKAGE_NAME kestrum)
set(CPACK_PACKAGE_CONTACT "Kestrum developers <kestrum@example.org>")
set(CPACK_PACKAGE_DESCRIPTION_SUMMARY "scheduled, encrypted backups of folders in chains of archive sets")
set(CPACK_PACKAGE_DESCRIPTION
"Jobs say which folders of a PC go to which disk, when, and how long restore
points are kept. Runs write compressed, encrypted archive sets in full,
incremental or differential chains; old sets are pruned to fit the disk,
verified, and chosen files restored. The format is open: tar, zstd and age
read it back.")
set(CPACK_PACKAGING_INSTALL_PREFIX /usr)
set(CPACK_STRIP_FILES ON)
set(CPACK_PACKAGE_DIRECTORY "${CMAKE_BINARY_DIR}")
set(CPACK_DEBIAN_FILE_NAME DEB-DEFAULT)
set(CPACK_DEBIAN_PACKAGE_SECTION admin)
set(CPACK_DEBIAN_PACKAGE_PRIORITY optional)
set(CPACK_DEBIAN_PACKAGE_SHLIBDEPS ON)
# Time zones by their names; and what is loaded only when it is needed.
set(CPACK_DEBIAN_PACKAGE_DEPENDS "tzdata, libcurl4, libssh-4")
# Figures of reports, and their PNGs.
set(CPACK_DEBIAN_PACKAGE_RECOMMENDS "gnuplot-nox, librsvg2-bin")
set(CPACK_DEBIAN_PACKAGE_SUGGESTS "systemd | cron, zstd, age, jq")
# Nothing of a user is in the package, and no script runs: an upgrade ends no run, and removing or
# purging it leaves jobs and state where they are.
include(CPack)
