#include "editor.h"

#include <unistd.h>

#include <cstdlib>

#include "kestrum/system/process.h"

namespace kestrum::cli {

bool run_editor(const std::string& file) {
  std::string editor;
  for (const char* variable : {"VISUAL", "EDITOR"}) {
    if (editor.empty() && std::getenv(variable) != nullptr) editor = std::getenv(variable);
  }
  if (editor.empty()) editor = "editor";
  // The variable may hold options; the shell splits them.
  return run_in_terminal({"/bin/sh", {"sh", "-c", editor + " \"$1\"", "sh", file}, {}, ""}) == 0;
}

EditedFile::~EditedFile() {
  ::unlink(path.c_str());
}

}  // namespace kestrum::cli
