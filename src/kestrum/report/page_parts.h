// What the pages of a report have in common.
#pragma once

#include <ctemplate/template.h>

#include <string>
#include <string_view>
#include <vector>

#include "kestrum/report/figures.h"
#include "kestrum/report/pages.h"

namespace kestrum {

using PageDictionary = ctemplate::TemplateDictionary;

// The style sheet with the palette's colours, light and dark.
std::string page_style();

// Adds title, answer, time and style to a page, and what could not be drawn.
void fill_head(PageDictionary& page, const std::string& title, Nanos now, const Report& report);

// The page as HTML: what all pages begin with, and `body`, a template.
std::string page_html(std::string_view body, PageDictionary& page);

// Adds a figure as a section of the page, and its files to the report.
void add_figure(PageDictionary& section, const Figure& figure, Report& report,
                Draftsman& draftsman);

}  // namespace kestrum
