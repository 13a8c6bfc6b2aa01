#include "kestrum/base/error.h"
#include "kestrum/report/figures.h"

namespace kestrum {

void Draftsman::draw(Figure& figure, const Plot& plot) {
  try {
    kestrum::draw(figure, plot);
  } catch (const Error& error) {
    note(error);
  }
}

// Once for each program that is to blame.
void Draftsman::note(const Error& error) {
  problems_.try_emplace(error.hint(), error.message());
}

std::vector<std::string> Draftsman::problems() const {
  std::vector<std::string> all;
  for (const auto& [hint, message] : problems_) all.push_back(message + "; " + hint);
  return all;
}

std::string Draftsman::png(const Figure& figure) {
  try {
    return png_of(figure);
  } catch (const Error& error) {
    note(error);
    return "";
  }
}

}  // namespace kestrum
