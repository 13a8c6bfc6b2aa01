#include "kestrum/report/recovery_card.h"

#include <fmt/format.h>
#include <qrencode.h>

#include <memory>

#include "kestrum/base/error.h"
#include "kestrum/base/text.h"
#include "kestrum/report/svg_text.h"

namespace kestrum {
namespace {

constexpr double kMargin = 18;  // millimetres, as all lengths here
constexpr double kWidth = 210;
constexpr double kCode = 78;  // side of the QR code
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
  // A name and a line to write on.
  void blank(const std::string& name, double step) {
    add(name, "plain", 3.8, 0);
    svg_ += fmt::format("<path class=\"line\" d=\"M{} {:.2f}H{}\"/>\n", kMargin + 56, y_ + 1,
                        kWidth - kMargin);
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

std::string recovery_card_svg(const RecoveryCard& card) {
  Lines lines(24);
  lines.add("Recovery card: " + card.job, "title", 8, 8);
  lines.add(fmt::format("of {}, made on {}", card.host, card.date), "plain", 4, 9);

  lines.add("A file is gone, or the PC is", "head", 4.4, 6);
  lines.add("1  Plug the disk named below into any PC that has Kestrum. Change nothing on it.",
            "plain", 3.8, 5);
  lines.add("2  kestrum look --shelf FOLDER, with the folder on the disk in which shelf.json lies.",
            "plain", 3.8, 5);
  lines.add("3  kestrum restore --shelf FOLDER PATH --to DIR. Both ask for the passphrase.",
            "plain", 3.8, 10);

  for (const char* blank : {"Label of the disk", "Person to ask", "Where the passphrase lies"}) {
    lines.blank(blank, 9);
  }
  lines.add("Keep it away from the PC and from the disk. Card and passphrase together open",
            "plain", 3.8, 5);
  lines.add(
      "the backups, the card alone opens nothing. After a change of passphrase, print it anew.",
      "plain", 3.8, 8);

  lines.add("shelf   " + card.shelf, "mono", 3.4, 4.6);
  lines.add("place   " + shortened(printable(card.place), 70), "mono", 3.4, 4.6);
  lines.add("key     " + card.recipient, "mono", 3.4, 6);

  double code_y = lines.y();
  std::string code = code_path(card.identity, kMargin, code_y);
  lines.space(kCode + 4);
  lines.add(
      "The wrapped identity, the same as in the code. Should keys/identity.age on the disk be "
      "lost:",
      "plain", 3.8, 5);
  lines.add("scan or type it into that file.", "plain", 3.8, 5.5);
  for (const auto& line : split(card.identity, '\n')) {
    if (!line.empty()) lines.add(line, "mono", 3.1, 3.9);
  }
  lines.space(4);
  lines.add("With standard tools (age, zstd, tar), for a full set", "head", 4.4, 5.5);
  lines.add("age -d identity.age > key.txt          (asks for the passphrase)", "mono", 3.4, 4.6);
  lines.add("for p in sets/c0001-000*/part-*.age; do age -d -i key.txt $p | zstd -d; done | tar -x",
            "mono", 3.4, 4.6);
  return fmt::format(
             "<svg xmlns=\"http://www.w3.org/2000/svg\" width=\"210mm\" height=\"297mm\" "
             "viewBox=\"0 0 210 297\">\n"
             "<style>text{{fill:#1d2226}} .title{{font-family:sans-serif;font-weight:bold}} "
             ".head{{font-family:sans-serif;font-weight:bold}} .plain{{font-family:sans-serif}} "
             ".line{{stroke:#1d2226;stroke-width:0.2}} "
             ".mono{{font-family:'DejaVu Sans Mono',monospace}} .code{{fill:#000}}</style>\n"
             "<rect width=\"210\" height=\"297\" fill=\"#fff\"/>\n") +
         lines.svg() + code + "</svg>\n";
}

}  // namespace kestrum
