#include "kestrum/access/open_place.h"

#include "kestrum/base/error.h"
#include "kestrum/base/followed.h"
#include "kestrum/base/text.h"
#include "kestrum/place/local_place.h"
#include "kestrum/remote/remote_place.h"

namespace kestrum {
namespace {

PlaceOpener& opener() {
  static PlaceOpener current;
  return current;
}

}  // namespace

std::shared_ptr<Place> open_place(const std::string& place, const std::string& folder) {
  if (opener()) return opener()(path_below(place, folder));
  if (is_remote(place)) return std::make_shared<RemotePlace>(parse_address(place), folder);
  return std::make_shared<LocalPlace>(place, folder);
}

void set_place_opener(PlaceOpener other) {
  opener() = std::move(other);
}

bool is_place(const std::string& place) {
  return is_remote(place) || is_named_folder(place);
}

void reach_place(const std::string& address) {
  if (open_place(address)->exists("")) return;
  throw Error(ErrorKind::kPlace, printable(address) + ": no such folder on the server",
              "make it there first")
      .about_path(address);
}

}  // namespace kestrum
