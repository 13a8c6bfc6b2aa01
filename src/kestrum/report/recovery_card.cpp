#include "kestrum/report/recovery_card.h"

#include <fmt/format.h>
#include <qrencode.h>

#include <memory>

#include "kestrum/base/error.h"
#include "kestrum/base/text.h"

namespace kestrum {
namespace {

constexpr double kMargin = 18;  // millimetres, as all lengths here
constexpr double kWidth = 210;
constexpr double kCode = 78;  // side of the QR code
constexpr double kQuietModules = 4;

using Style = Sheet::Style;

// Puts one line below the other.
class Lines {
 public:
  Lines(Sheet& sheet, double y) : sheet_(sheet), y_(y) {}
  void add(const std::string& text, Style style, double size, double step) {
    sheet_.words.push_back({kMargin, y_, style, size, text});
    y_ += step;
  }
  void plain(const std::string& text, double step) { add(text, Style::kPlain, 3.8, step); }
  void head(const std::string& text, double step) { add(text, Style::kBold, 4.4, step); }
  void mono(const std::string& text, double step) { add(text, Style::kMono, 3.4, step); }
  // A name and a line to write on.
  void blank(const std::string& name, double step) {
    plain(name, 0);
    sheet_.lines.push_back({kMargin + 56, y_ + 1, kWidth - kMargin});
    y_ += step;
  }
  void space(double height) { y_ += height; }
  double y() const { return y_; }

 private:
  Sheet& sheet_;
  double y_;
};

// Dark modules, a row of neighbours at a time.
void add_code(Sheet& sheet, const std::string& text, double x, double y) {
  std::unique_ptr<QRcode, void (*)(QRcode*)> code(
      QRcode_encodeString8bit(text.c_str(), 0, QR_ECLEVEL_M), QRcode_free);
  if (!code) throw Error(ErrorKind::kFailed, "the identity is too long for a QR code");
  double module = kCode / (code->width + 2 * kQuietModules);
  for (int row = 0; row < code->width; ++row) {
    for (int column = 0; column < code->width; ++column) {
      auto dark = [&](int c) {
        return c < code->width && (code->data[row * code->width + c] & 1) != 0;
      };
      if (!dark(column)) continue;
      int run = 1;
      while (dark(column + run)) ++run;
      sheet.boxes.push_back({x + (column + kQuietModules) * module,
                             y + (row + kQuietModules) * module, run * module, module});
      column += run;
    }
  }
}

}  // namespace

Sheet recovery_card(const RecoveryCard& card) {
  Sheet sheet{kWidth, 297, "Recovery card: " + card.job, {}, {}, {}};
  Lines lines(sheet, 24);
  lines.add(sheet.title, Style::kBold, 8, 8);
  lines.add(fmt::format("of {}, made on {}", card.host, card.date), Style::kPlain, 4, 9);

  lines.head("A file is gone, or the PC is", 6);
  lines.plain("1  Plug the disk named below into any PC that has Kestrum. Change nothing on it.",
              5);
  lines.plain(
      "2  kestrum look --shelf FOLDER, with the folder on the disk in which shelf.json lies.", 5);
  lines.plain("3  kestrum restore --shelf FOLDER PATH --to DIR. Both ask for the passphrase.", 10);

  for (const char* blank : {"Label of the disk", "Person to ask", "Where the passphrase lies"}) {
    lines.blank(blank, 9);
  }
  lines.plain("Keep it away from the PC and from the disk. Card and passphrase together open", 5);
  lines.plain(
      "the backups, the card alone opens nothing. After a change of passphrase, print it anew.", 8);

  lines.mono("shelf   " + card.shelf, 4.6);
  lines.mono("place   " + shortened(printable(card.place), 70), 4.6);
  lines.mono("key     " + card.recipient, 6);

  add_code(sheet, card.identity, kMargin, lines.y());
  lines.space(kCode + 4);
  lines.plain(
      "The wrapped identity, the same as in the code. Should keys/identity.age on the disk be "
      "lost:",
      5);
  lines.plain("scan or type it into that file.", 5.5);
  for (const auto& line : split(card.identity, '\n')) {
    if (!line.empty()) lines.add(line, Style::kMono, 3.1, 3.9);
  }
  lines.space(4);
  lines.head("With standard tools (age, zstd, tar), for a full set", 5.5);
  lines.mono("age -d identity.age > key.txt          (asks for the passphrase)", 4.6);
  lines.mono(
      "for p in sets/c0001-000*/part-*.age; do age -d -i key.txt $p | zstd -d; done | tar -x", 4.6);
  return sheet;
}

}  // namespace kestrum
