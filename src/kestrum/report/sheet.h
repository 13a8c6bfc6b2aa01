// A sheet of paper with words, lines to write on and dark boxes, as SVG or as PDF: both show the
// same.
#pragma once

#include <string>
#include <vector>

namespace kestrum {

// Lengths are in millimetres from the upper left corner.
struct Sheet {
  enum class Style { kPlain, kBold, kMono };
  struct Words {
    double x, y;  // where the baseline begins
    Style style;
    double size;       // of the letters
    std::string text;  // UTF-8
  };
  struct Line {
    double x, y, to_x;
  };
  struct Box {
    double x, y, width, height;  // x, y: its upper left corner
  };

  double width, height;
  std::string title;
  std::vector<Words> words;
  std::vector<Line> lines;
  std::vector<Box> boxes;  // black
};

std::string sheet_svg(const Sheet& sheet);

// PDF 1.3 (ISO 32000-1) with fonts that every reader has, so that none need be on this PC. They
// know Western European letters; others are a question mark. Throws Error(kFailed).
std::string sheet_pdf(const Sheet& sheet);

}  // namespace kestrum
