#include "kestrum/base/named_file.h"

#include <fcntl.h>
#include <unistd.h>

#include <cerrno>
#include <cstdio>

#include "kestrum/base/below.h"
#include "kestrum/base/error.h"
#include "kestrum/base/followed.h"
#include "kestrum/base/text.h"

namespace kestrum {

void write_named_file(const std::string& named, std::string_view text, mode_t mode) {
  std::string path = absolute_path(named), name = base_name(path);
  Fd folder = open_named(parent_of(path), O_RDONLY | O_DIRECTORY);
  if (!folder) throw system_error(errno, printable(named), ErrorKind::kUsage).about_path(path);
  struct stat st {};
  if (below::look(folder.get(), name, st) && !S_ISREG(st.st_mode)) {
    throw Error(ErrorKind::kUsage, printable(named) + ": something that is no file has this name",
                "name another file")
        .about_path(path);
  }
  std::string fresh;
  Fd fd;
  for (int i = 0; !fd && (i == 0 || errno == EEXIST); ++i) {
    fresh = "." + name + ".new-" + std::to_string(::getpid()) + "-" + std::to_string(i);
    fd = below::create(folder.get(), fresh);
  }
  if (!fd) throw system_error(errno, printable(named), ErrorKind::kUsage).about_path(path);
  try {
    write_all(fd.get(), as_bytes(text), named);
    if (!below::set_mode(fd.get(), mode) || ::fsync(fd.get()) != 0 ||
        !below::rename(folder.get(), fresh, folder.get(), name)) {
      throw system_error(errno, printable(named));
    }
  } catch (Error& error) {
    below::remove(folder.get(), fresh);
    throw error.about_path(path);
  }
}

void make_named_folder(const std::string& named) {
  std::string path = absolute_path(named);
  Fd above = open_named(parent_of(path), O_RDONLY | O_DIRECTORY);
  // That it is there already is as good.
  bool made = above && below::make_folder(above.get(), base_name(path));
  if (!made && !open_named(path, O_RDONLY | O_DIRECTORY)) {
    throw system_error(errno, printable(named), ErrorKind::kUsage).about_path(path);
  }
}

}  // namespace kestrum
