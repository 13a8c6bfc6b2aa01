#include "kestrum/report/figure.h"

#include <fmt/format.h>

#include "kestrum/base/error.h"
#include "kestrum/report/palette.h"
#include "kestrum/report/svg_text.h"
#include "kestrum/system/process.h"

namespace kestrum {
namespace {

// Of the element that holds the drawing, what stands in front of it.
constexpr std::string_view kRoot = "<svg";

}  // namespace

std::string inline_svg(const Figure& figure) {
  std::size_t root = figure.svg.find(kRoot);
  if (root == std::string::npos) return "";
  std::string svg = figure.svg.substr(root);
  std::size_t end = svg.find('>');
  if (end == std::string::npos) return "";
  std::string head = svg.substr(kRoot.size(), end - kRoot.size());
  std::string body = svg.substr(end + 1);
  for (const PaletteColour& colour : kPalette) {
    for (std::string* text : {&head, &body}) {
      replace_each(*text, colour.light, fmt::format("var(--{})", colour.name));
    }
  }
  // Names in a drawing count for the whole page.
  for (std::string_view before : {"id=\"", "id='", "href='#", "href=\"#", "url(#"}) {
    replace_each(body, before, fmt::format("{}{}-", before, figure.name));
  }
  std::string said =
      fmt::format("<title id=\"{0}-title\">{1}</title><desc id=\"{0}-desc\">{2}</desc>",
                  figure.name, markup_escaped(figure.title), markup_escaped(figure.summary));
  return fmt::format("<svg role=\"img\" aria-labelledby=\"{0}-title {0}-desc\"{1}>{2}{3}",
                     figure.name, head, said, body);
}

std::string png_of(const Figure& figure) {
  FilterResult result = run_filter({{"rsvg-convert", "--format=png", "--zoom=1.5"}, figure.svg});
  if (!result.ok) {
    throw Error(ErrorKind::kFailed, figure.name + ".png: not drawn: " + result.reason,
                "rsvg-convert is in the package librsvg2-bin");
  }
  return std::move(result.output);
}

}  // namespace kestrum
