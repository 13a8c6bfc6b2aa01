#include "kestrum/access/move_shelf.h"

#include <algorithm>

#include "kestrum/access/open_place.h"
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
    moved.not_marked = mark_there(moved.from);
    state_.update_record([&](ShelfRecord& known) {
      known.place = place_;
      known.moves = label_.moves;
      known.moving_to.clear();
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
    write_label(*to_, label_);
  }

  std::string mark_there(const std::string& path) const {
    try {
      if (!seems_shelf(state_.record.place, state_.record.folder)) return "it is not there now";
      auto from = open_place(state_.record.place, state_.record.folder);
      ShelfLabel label = Shelf::read_label(*from);
      bool is_it = label.shelf == label_.shelf && label.owner == label_.owner && !label.copy_of &&
                   label.moves < label_.moves;
      if (!is_it) return "another shelf lies there";
      label.moved_to = printable(place_ + "/" + state_.record.folder);
      write_label(*from, label);
      return "";
    } catch (const Error& error) {
      return printable(path) + ": " + error.message();
    }
  }

  void write_label(Place& place, const ShelfLabel& label) const {
    write_signed(place, kLabelFile, label.to_json(), state_.signing_key(),
                 "label of shelf " + label.shelf);
    place.sync_folder("");
  }

  const JobStore& jobs_;
  ShelfState state_;
  const std::string& place_;
  std::shared_ptr<Place> to_;
  ShelfLabel label_;
};

}  // namespace

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
