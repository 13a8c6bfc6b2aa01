#include <fmt/format.h>

#include "kestrum/report/sheet.h"
#include "kestrum/report/svg_text.h"

namespace kestrum {
namespace {

const char* class_of(Sheet::Style style) {
  return style == Sheet::Style::kPlain ? "plain" : style == Sheet::Style::kBold ? "bold" : "mono";
}

}  // namespace

std::string sheet_svg(const Sheet& sheet) {
  std::string svg = fmt::format(
      "<svg xmlns=\"http://www.w3.org/2000/svg\" width=\"{0}mm\" height=\"{1}mm\" "
      "viewBox=\"0 0 {0} {1}\">\n<title>{2}</title>\n"
      "<style>text{{fill:#1d2226}} .plain{{font-family:sans-serif}} "
      ".bold{{font-family:sans-serif;font-weight:bold}} "
      ".line{{stroke:#1d2226;stroke-width:0.2}} "
      ".mono{{font-family:'DejaVu Sans Mono',monospace}} .box{{fill:#000}}</style>\n"
      "<rect width=\"{0}\" height=\"{1}\" fill=\"#fff\"/>\n",
      sheet.width, sheet.height, markup_escaped(sheet.title));
  for (const Sheet::Words& words : sheet.words) {
    svg += fmt::format(
        "<text x=\"{}\" y=\"{:.2f}\" class=\"{}\" font-size=\"{}\" "
        "xml:space=\"preserve\">{}</text>\n",
        words.x, words.y, class_of(words.style), words.size, markup_escaped(words.text));
  }
  for (const Sheet::Line& line : sheet.lines) {
    svg += fmt::format("<path class=\"line\" d=\"M{} {:.2f}H{}\"/>\n", line.x, line.y, line.to_x);
  }
  std::string path;
  for (const Sheet::Box& box : sheet.boxes) {
    path += fmt::format("M{:.3f} {:.3f}h{:.3f}v{:.3f}h-{:.3f}z", box.x, box.y, box.width,
                        box.height, box.width);
  }
  return svg + "<path class=\"box\" d=\"" + path + "\"/>\n</svg>\n";
}

}  // namespace kestrum
