// The user's editor.
#pragma once

#include <string>

namespace kestrum::cli {

// Opens a file in $VISUAL, else $EDITOR, else `editor`, and waits for its end; works without a
// terminal too. False if it could not be started or ended with an error.
bool run_editor(const std::string& file);

// What is given to the editor, and removed whatever happens.
struct EditedFile {
  std::string path;
  explicit EditedFile(std::string file) : path(std::move(file)) {}
  EditedFile(const EditedFile&) = delete;
  EditedFile& operator=(const EditedFile&) = delete;
  ~EditedFile();
};

}  // namespace kestrum::cli
