// The colours of figures and pages. No two have the same light code, so that a figure drawn with
// those can be put into a page whose style sheet knows them by name, light and dark.
#pragma once

#include <array>
#include <string_view>

namespace kestrum {

struct PaletteColour {
  const char* name;
  const char* light;  // "#rrggbb"
  const char* dark;
};

inline constexpr std::array<PaletteColour, 15> kPalette = {{
    {"paper", "#ffffff", "#161b21"},
    {"panel", "#f4f6f5", "#1f262e"},
    {"edge", "#d3d9dc", "#3a4550"},
    {"ink", "#1d2731", "#e8ecef"},
    {"muted", "#56616b", "#a9b4be"},
    {"faint", "#e9edee", "#2a333c"},
    {"full", "#1f4e79", "#7db8ee"},
    {"full-ink", "#fdfdfd", "#0c1a27"},
    {"dependent", "#9cc3e0", "#35617f"},
    {"dependent-ink", "#10314d", "#eaf4fb"},
    {"differential", "#7a5ea8", "#b49be0"},
    {"good", "#1c7445", "#5fce91"},
    {"heed", "#8a5800", "#e8b44f"},
    {"trouble", "#b3261e", "#ff8f85"},
    {"link", "#17568f", "#8cc4f5"},
}};

// Its light code. Of a name that is none, that of ink.
constexpr std::string_view light_code(std::string_view name) {
  for (const PaletteColour& colour : kPalette) {
    if (name == colour.name) return colour.light;
  }
  return light_code("ink");
}

}  // namespace kestrum
