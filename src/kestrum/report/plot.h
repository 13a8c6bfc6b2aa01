// Drawing figures by gnuplot.
#pragma once

#include <string>
#include <string_view>
#include <utility>
#include <vector>

#include "kestrum/base/nanos.h"
#include "kestrum/report/figure.h"

namespace kestrum {

// What goes into a template of gnuplot's commands; names are those in its text.
struct Plot {
  std::string_view template_name;                           // "runs.gp"
  int width = 900, height = 320;                            // pixels
  std::vector<std::pair<std::string, std::string>> values;  // put in as they are: no names of users
};

// Draws, and sets the figure's svg. Throws Error(kFailed) if gnuplot is not there, or fails.
void draw(Figure& figure, const Plot& plot);

// A moment as a number on an axis: seconds by the wall clock.
std::int64_t axis_time(Nanos moment);
// "xtics" of an axis from one moment to another: at midnights, at most eight.
std::string day_tics(Nanos from, Nanos to);
// Of an axis of bytes from 0 to `most`: what a unit of it is, and its name.
struct AxisUnit {
  double bytes = 1;
  const char* name = "bytes";
};
AxisUnit unit_for(double most);
// "ytics" of a logarithmic axis, in words: sizes, or lengths of time in seconds.
std::string size_tics(double least, double most);
std::string time_tics();

}  // namespace kestrum
