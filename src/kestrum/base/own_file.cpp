#include "kestrum/base/own_file.h"

#include <unistd.h>

#include "kestrum/base/shell_word.h"
#include "kestrum/base/text.h"

namespace kestrum {

void require_own(const struct stat& st, const std::string& path, ErrorKind kind) {
  bool others_write = !S_ISLNK(st.st_mode) && (st.st_mode & (S_IWGRP | S_IWOTH)) != 0;
  if (::geteuid() != 0 || (st.st_uid == 0 && !others_write)) return;
  std::string named = printable(path);
  throw Error(kind,
              named + (others_write ? ": others than root may write it" : ": it is not root's"),
              "root goes by nothing that somebody else can change: " +
                  std::string(others_write ? "chmod go-w " : "chown root ") + shell_word(path))
      .about_path(path);
}

void require_own(const std::string& path, ErrorKind kind) {
  struct stat st {};
  if (::stat(path.c_str(), &st) == 0) require_own(st, path, kind);
}

}  // namespace kestrum
