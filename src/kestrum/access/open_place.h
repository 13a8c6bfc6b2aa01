// Opening a place, of whatever kind it is.
#pragma once

#include <functional>
#include <memory>
#include <string>

#include "kestrum/place/place.h"

namespace kestrum {

// The folder `folder` below `place`: one of this machine, or an address, as LocalPlace and
// RemotePlace have them. Throws Error(kPlace) if it cannot be opened. Every shelf is opened by this
// one function, so that tests can put a faulty place under the engine.
using PlaceOpener = std::function<std::shared_ptr<Place>(const std::string& folder)>;
std::shared_ptr<Place> open_place(const std::string& place, const std::string& folder = "");
// For tests; without one, what the place says.
void set_place_opener(PlaceOpener opener);

// Whether there is something to open at a place: a folder that is there, or an address, which only
// asking tells more of.
bool is_place(const std::string& place);
// Throws Error(kPlace) for an address that nothing is at, or nobody answers at.
void reach_place(const std::string& address);

}  // namespace kestrum
