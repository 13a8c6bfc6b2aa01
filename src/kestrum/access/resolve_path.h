// What a PATH on the command line means on a shelf.
#pragma once

#include <optional>
#include <string>

#include "kestrum/access/read_session.h"

namespace kestrum {

// A PATH as typed, relative to "/": "~" and relative paths that begin with "." are made absolute,
// a leading slash is dropped. Whether it was anchored is told by `anchored`.
std::string stored_form(const std::string& typed, bool& anchored);

// The same for a set that may have been made elsewhere: what lies in another folder here goes by
// its name of then.
std::string stored_form_at(ReadSession& session, SetId set, const std::string& typed,
                           bool& anchored);

// The folder or file that a PATH means in a set, relative to "/": itself, or the only one that it
// matches. Throws Error(kNoMatch) if there is none, Error(kUsage) if there are several.
std::string resolve_path(ReadSession& session, SetId set, const std::string& typed);

// Where what somebody typed was seen last, of all that it means; nothing if it never was.
std::optional<SeenAt> seen_as_typed(ReadSession& session, const std::string& typed);

}  // namespace kestrum
