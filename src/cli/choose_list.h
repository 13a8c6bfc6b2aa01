// Files to restore, chosen in the user's editor: a list with a line for each, to be marked.
#pragma once

#include <string>
#include <vector>

#include "context.h"
#include "kestrum/access/read_session.h"

namespace kestrum::cli {

// Lists `folders` (paths relative to "/", files too) at a restore point in a file that only this
// user can read, opens it, and takes it away again. The paths that are marked, absolute; none if
// none is. Throws Error(kFailed) if the editor fails, Error(kUsage) for a marked line that names
// nothing.
std::vector<std::string> choose_in_editor(const Context& context, ReadSession& session, SetId set,
                                          const std::vector<std::string>& folders);

// A line of a list as it came back, comments and empty ones left out.
struct ListedLine {
  std::size_t number = 0;  // in the file, from 1
  bool marked = false;
  std::string path;  // absolute; empty if the line has none
  std::string text;
};

// Opens `text` in the user's editor, in a file that only this user can read and that is taken away
// again. A line is "[x] 12.4 kB  2026-03-02 21:00  /path", where nothing before the path has a
// slash. Throws Error(kFailed) if the editor fails.
std::vector<ListedLine> edited_list(const Context& context, const std::string& text);
// What to throw for one that names nothing.
Error names_nothing(const ListedLine& line);

// A name on one line: backslashes doubled, control characters and bytes that are not UTF-8 as \xHH;
// and back.
std::string one_line_name(const std::string& name);
std::string name_of_line(std::string_view text);

}  // namespace kestrum::cli
