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

// A name on one line: backslashes doubled, control characters and bytes that are not UTF-8 as \xHH;
// and back.
std::string one_line_name(const std::string& name);
std::string name_of_line(std::string_view text);

}  // namespace kestrum::cli
