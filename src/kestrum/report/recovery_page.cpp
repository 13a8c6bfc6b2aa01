#include "kestrum/report/recovery_page.h"

#include <fmt/format.h>
#include <qrencode.h>

#include <memory>

#include "kestrum/base/error.h"
#include "kestrum/base/text.h"
#include "kestrum/report/svg_text.h"

namespace kestrum {
namespace {

constexpr double kMargin = 18;  // millimetres, as all lengths here
constexpr double kCode = 82;    // side of the QR code
constexpr double kQuietModules = 4;

class Lines {
 public:
  explicit Lines(double y) : y_(y) {}
  void add(const std::string& text, const char* style, double size, double step) {
    svg_ += fmt::format(
        "<text x=\"{}\" y=\"{:.2f}\" class=\"{}\" font-size=\"{}\" "
        "xml:space=\"preserve\">{}</text>\n",
        kMargin, y_, style, size, markup_escaped(text));
    y_ += step;
  }
  void space(double height) { y_ += height; }
  double y() const { return y_; }
  const std::string& svg() const { return svg_; }

 private:
  double y_;
  std::string svg_;
};

// Dark modules as one path, a row of neighbours at a time.
std::string code_path(const std::string& text, double x, double y) {
  std::unique_ptr<QRcode, void (*)(QRcode*)> code(
      QRcode_encodeString8bit(text.c_str(), 0, QR_ECLEVEL_M), QRcode_free);
  if (!code) throw Error(ErrorKind::kFailed, "the identity is too long for a QR code");
  double module = kCode / (code->width + 2 * kQuietModules);
  std::string path;
  for (int row = 0; row < code->width; ++row) {
    for (int column = 0; column < code->width; ++column) {
      auto dark = [&](int c) {
        return c < code->width && (code->data[row * code->width + c] & 1) != 0;
      };
      if (!dark(column)) continue;
      int run = 1;
      while (dark(column + run)) ++run;
      path += fmt::format("M{:.3f} {:.3f}h{:.3f}v{:.3f}h-{:.3f}z",
                          x + (column + kQuietModules) * module, y + (row + kQuietModules) * module,
                          run * module, module, run * module);
      column += run;
    }
  }
  return "<path class=\"code\" d=\"" + path + "\"/>\n";
}

}  // namespace

std::string recovery_page_svg(const RecoveryPage& page) {
  Lines lines(26);
  lines.add("Recovery page: " + page.job, "title", 8, 9);
  lines.add(fmt::format("of {}, made on {}", page.host, page.date), "plain", 4, 9);
  lines.add("Keep it away from the PC and from the disk. It does not hold the passphrase:", "plain",
            3.8, 5);
  lines.add("page and passphrase together open the backups, this page alone opens nothing.",
            "plain", 3.8, 5);
  lines.add("After a change of the passphrase, print it anew.", "plain", 3.8, 8);
  lines.add("shelf   " + page.shelf, "mono", 3.8, 5);
  lines.add("place   " + shortened(printable(page.place), 70), "mono", 3.8, 7);

  double code_y = lines.y();
  std::string code = code_path(page.identity, kMargin, code_y);
  lines.space(kCode + 6);
  lines.add("The wrapped identity, the same as in the code:", "plain", 3.8, 5.5);
  for (const auto& line : split(page.identity, '\n')) {
    if (!line.empty()) lines.add(line, "mono", 3.4, 4.3);
  }
  lines.space(5);
  lines.add("With Kestrum, on any PC", "head", 4.4, 6);
  lines.add("The disk and the passphrase are enough:  kestrum look --shelf FOLDER", "mono", 3.4, 7);
  lines.add(
      "Should keys/identity.age on the disk be lost: type or scan the text above into that file.",
      "plain", 3.8, 8);
  lines.add("With standard tools (age, zstd, tar), for a full set", "head", 4.4, 6);
  lines.add("age -d identity.age > key.txt          (asks for the passphrase)", "mono", 3.4, 4.6);
  lines.add("for p in sets/c0001-000*/part-*.age; do age -d -i key.txt $p | zstd -d; done | tar -x",
            "mono", 3.4, 4.6);
  return fmt::format(
             "<svg xmlns=\"http://www.w3.org/2000/svg\" width=\"210mm\" height=\"297mm\" "
             "viewBox=\"0 0 210 297\">\n"
             "<style>text{{fill:#1d2226}} .title{{font-family:sans-serif;font-weight:bold}} "
             ".head{{font-family:sans-serif;font-weight:bold}} .plain{{font-family:sans-serif}} "
             ".mono{{font-family:'DejaVu Sans Mono',monospace}} .code{{fill:#000}}</style>\n"
             "<rect width=\"210\" height=\"297\" fill=\"#fff\"/>\n") +
         lines.svg() + code + "</svg>\n";
}

}  // namespace kestrum
