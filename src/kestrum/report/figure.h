// A figure of a report: as SVG by itself and within a page, and its data.
#pragma once

#include <string>

namespace kestrum {

struct Figure {
  std::string name;     // of its files, without their ending: "studio-runs"
  std::string title;    // for people
  std::string summary;  // what it shows, in a sentence: for who cannot see it
  std::string svg;      // a document of its own, in the light colours; empty if it was not drawn
  std::string csv;      // RFC 4180, with a head
};

// The figure as an element of an HTML page, in the page's colours; no two figures of a page may
// have the same name. Empty if it was not drawn.
std::string inline_svg(const Figure& figure);

// As PNG, by rsvg-convert. Throws Error(kFailed) naming the program if it cannot.
std::string png_of(const Figure& figure);

}  // namespace kestrum
