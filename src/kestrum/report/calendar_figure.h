// A calendar of a shelf: one cell a day.
#pragma once

#include <string>
#include <vector>

#include "kestrum/inspect/shelf_calendar.h"

namespace kestrum {

// Month after month, weeks from Monday, as SVG. A day shows the kind of its set by letter and
// shade; a bar below it where it can be restored; a set that was pruned pale and crossed out.
std::string calendar_svg(const std::string& title, const std::vector<CalendarDay>& days);

}  // namespace kestrum
