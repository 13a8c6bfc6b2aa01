// A page as a browser shows it: headless Chromium, without a network.
#pragma once

#include <string>

#include "kestrum/base/json.h"

namespace kestrum::test {

bool have_browser();

// Opens a file of HTML and looks at it: "broken" links (that lead to no file or no place in the
// page), "low" contrasts below 4.5 with their texts, "wide": whether the page scrolls sideways,
// "unnamed" pictures and links, "doubled" ids, and "console": what the browser complained of, with
// every request that left the page. `dark`: as somebody sees it who likes it dark.
Json look_at_page(const std::string& file, bool dark, int width = 1280);

}  // namespace kestrum::test
