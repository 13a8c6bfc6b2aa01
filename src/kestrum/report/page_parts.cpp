#include "kestrum/report/page_parts.h"

#include <fmt/format.h>
#include <fmt/ranges.h>

#include <algorithm>

#include "kestrum/base/host_name.h"
#include "kestrum/base/text.h"
#include "kestrum/base/units.h"
#include "kestrum/report/expand.h"
#include "kestrum/report/palette.h"
#include "kestrum/report/templates.h"

namespace kestrum {

std::string page_style() {
  std::string light, dark;
  for (const PaletteColour& colour : kPalette) {
    light += fmt::format("--{}:{};", colour.name, colour.light);
    dark += fmt::format("--{}:{};", colour.name, colour.dark);
  }
  return fmt::format(
      ":root{{{0}}}\n@media (prefers-color-scheme: dark){{:root{{{1}}}}}\n"
      "@media print{{:root{{{0}}}}}\n{2}",
      light, dark, template_text("style.css"));
}

void fill_head(ctemplate::TemplateDictionary& page, const std::string& title, Nanos now,
               const Report& report) {
  page.SetValue("PAGE_TITLE", printable(title));
  page.SetValue("STYLE", page_style());
  page.SetValue("ANSWER", report.answer);
  page.SetValue("NOW", format_local_day(now));
  page.SetValue("VERSION", KESTRUM_VERSION);
  page.SetValue("HOST", printable(host_name()));
  if (report.problems.empty()) return;
  page.AddSectionDictionary("PROBLEM")->SetValue(
      "PROBLEM_TEXT", printable(fmt::format("{}", fmt::join(report.problems, "; "))));
}

std::string page_html(std::string_view body, PageDictionary& page) {
  return expand_page(std::string(template_text("page_top.html")).append(template_text(body)), page);
}

void add_figure(ctemplate::TemplateDictionary& section, const Figure& figure, Report& report,
                Draftsman& draftsman) {
  ctemplate::TemplateDictionary* part = section.AddSectionDictionary("FIGURE");
  part->SetValue("TITLE", printable(figure.title));
  part->SetValue("SUMMARY", printable(figure.summary));
  auto add_file = [&](const char* kind, const char* ending, std::string content) {
    if (content.empty()) return;
    ctemplate::TemplateDictionary* file = part->AddSectionDictionary("FILE");
    file->SetValue("PATH", figure.name + ending);
    file->SetValue("KIND", kind);
    report.files.push_back({figure.name + ending, std::move(content)});
  };
  if (figure.svg.empty()) {
    part->ShowSection("NOT_DRAWN");
  } else {
    part->AddSectionDictionary("DRAWN")->SetValue("SVG", inline_svg(figure));
    add_file("SVG", ".svg", figure.svg);
    add_file("PNG", ".png", draftsman.png(figure));
  }
  add_file("CSV", ".csv", figure.csv);
}

std::string count_states(const std::vector<StatusLevel>& levels) {
  std::size_t count[3] = {};
  for (StatusLevel level : levels) ++count[static_cast<std::size_t>(level)];
  std::string text =
      fmt::format("{} of {} fine", format_count(count[0]), format_count(levels.size()));
  if (count[1] > 0) text = fmt::format("{} to heed, ", format_count(count[1])) + text;
  if (count[2] > 0) text = fmt::format("{} in trouble, ", format_count(count[2])) + text;
  return text;
}

}  // namespace kestrum
