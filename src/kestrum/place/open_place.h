// Opening a place, of whatever kind it is.
#pragma once

#include <functional>
#include <memory>
#include <string>

#include "kestrum/place/place.h"

namespace kestrum {

// The place in the folder `folder` below `place` of this machine, as LocalPlace has it. Throws
// Error(kPlace) if the folder cannot be opened. Every shelf is opened by this one function, so that
// tests can put a faulty place under the engine.
using PlaceOpener = std::function<std::shared_ptr<Place>(const std::string& folder)>;
std::shared_ptr<Place> open_place(const std::string& place, const std::string& folder = "");
// For tests; without one, LocalPlace.
void set_place_opener(PlaceOpener opener);

}  // namespace kestrum
