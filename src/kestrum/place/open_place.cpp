#include "kestrum/place/open_place.h"

#include "kestrum/place/local_place.h"

namespace kestrum {
namespace {

PlaceOpener& opener() {
  static PlaceOpener current;
  return current;
}

}  // namespace

std::shared_ptr<Place> open_place(const std::string& place, const std::string& folder) {
  return opener() ? opener()(path_below(place, folder))
                  : std::make_shared<LocalPlace>(place, folder);
}

void set_place_opener(PlaceOpener other) {
  opener() = std::move(other);
}

}  // namespace kestrum
