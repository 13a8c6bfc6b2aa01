#include "kestrum/access/move_shelf.h"

#include <algorithm>

#include "kestrum/access/open_place.h"
#include "kestrum/base/file.h"
#include "kestrum/base/text.h"

namespace kestrum {
namespace {

class ShelfMove {
 public:
  ShelfMove(const JobStore& jobs, ShelfState state, const std::string& place)
      : jobs_(jobs), state_(std::move(state)), place_(place) {}

  MovedShelf run() {
    const ShelfRecord& record = state_.record;
    MovedShelf moved;
    moved.from = record.place + "/" + record.folder;
    moved.to = place_ + "/" + record.folder;
    to_ = open_place(place_, record.folder);
    label_ = Shelf::read_label(*to_);
    check_label(moved.to);
    state_.update_record([&](ShelfRecord& known) { known.moving_to = place_; });
    change_job();
    begin_here();
    moved.not_marked = mark_as_left(state_, state_.record.place, label_, moved.to, false);
    state_.update_record([&](ShelfRecord& known) {
      known.place = place_;
      known.moves = label_.moves;
      known.moving_to.clear();
      known.earlier.clear();
      known.full = {};
      // All that is here was compared with its seals as it was copied.
      known.damage.clear();
      known.verified = {};
      known.verify_round = {};
      std::erase_if(known.copies, [&](const CopyRecord& copy) { return copy.place == place_; });
      known.last_seen = calendar_now();
    });
    return moved;
  }

 private:
  void check_label(const std::string& path) const {
    const ShelfRecord& record = state_.record;
    bool was_begun = record.moving_to == place_ && label_.moves == record.moves + 1;
    bool right = label_.shelf == record.shelf && (label_.copy_of || was_begun) &&
                 read_signed(*to_, kLabelFile, record.keys.signers);
    if (right) return;
    throw Error(ErrorKind::kUsage, printable(path) + ": no copy of this shelf lies there")
        .about_path(path);
  }

  void change_job() const {
    Job job = jobs_.load(state_.record.job);
    std::vector<std::string> places = job.places, copies = job.copies.to;
    std::erase(places, place_);
    auto old = std::find(places.begin(), places.end(), state_.record.place);
    if (old != places.end()) {
      *old = place_;
    } else {
      places.insert(places.begin(), place_);
    }
    std::erase(copies, place_);
    std::vector<std::pair<std::string, KeyValue>> values;
    if (places != job.places) values.emplace_back("destination.places", KeyValue(places));
    if (copies != job.copies.to) values.emplace_back("copies.to", KeyValue(copies));
    if (!values.empty()) jobs_.edit(job.name, values);
  }

  void begin_here() {
    if (!label_.copy_of) return;
    label_.copy_of.reset();
    label_.moves = state_.record.moves + 1;
    write_own_label(*to_, state_, label_);
  }

  const JobStore& jobs_;
  ShelfState state_;
  const std::string& place_;
  std::shared_ptr<Place> to_;
  ShelfLabel label_;
};

}  // namespace

std::string mark_as_left(const ShelfState& state, const std::string& from, const ShelfLabel& label,
                         const std::string& to, bool filled) {
  const std::string& folder = state.record.folder;
  try {
    if (!seems_shelf(from, folder)) return "it is not there now";
    auto place = open_place(from, folder);
    ShelfLabel left = Shelf::read_label(*place);
    bool is_it = left.shelf == label.shelf && left.owner == label.owner && !left.copy_of &&
                 !left.waits && left.moves < label.moves;
    if (!is_it) return "another shelf lies there";
    left.moved_to = printable(to);
    left.filled = filled;
    write_own_label(*place, state, left);
    return "";
  } catch (const Error& error) {
    return printable(path_below(from, folder)) + ": " + error.message();
  }
}

MovedShelf move_shelf(const JobStore& jobs, ShelfState state, const std::string& place) {
  return ShelfMove(jobs, std::move(state), place).run();
}

std::optional<ShelfState> begun_move(const MachineState& machine, const std::string& job,
                                     const std::string& place) {
  for (ShelfState& state : machine.shelves(job)) {
    if (state.record.moving_to == place) return std::move(state);
  }
  return std::nullopt;
}

}  // namespace kestrum
