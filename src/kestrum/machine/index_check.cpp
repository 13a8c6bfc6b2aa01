// What the index says of every restore point, held against what the ledgers say.
#include <fmt/format.h>

#include <algorithm>
#include <map>

#include "kestrum/base/text.h"
#include "kestrum/machine/index.h"
#include "kestrum/select/path_order.h"

namespace kestrum {
namespace {

constexpr std::size_t kMostDifferences = 20;

struct Known {
  LedgerEntry line;
  ContentLocation location;  // of a file
};
using PathStates = std::map<std::string, Known>;  // by path_key

std::string difference_of(const Entry& told, const Entry& held) {
  if (told.type != held.type) return "type";
  if (told.size != held.size) return "size";
  if (told.mtime != held.mtime) return "mtime";
  if (told.mode != held.mode) return "mode";
  if (told.uid != held.uid || told.gid != held.gid) return "owner's number";
  if (told.user != held.user || told.group != held.group) return "owner's name";
  if (told.target != held.target) return "target";
  if (told.holes != held.holes) return "holes";
  if (told.link_group != held.link_group) return "link group";
  bool device = told.device_major == held.device_major && told.device_minor == held.device_minor &&
                told.block_device == held.block_device;
  if (!device) return "device";
  return told.xattrs == held.xattrs ? "" : "attributes";
}

class Check {
 public:
  Check(Index& index, const Index::LedgerOpener& open_ledger)
      : index_(index), open_ledger_(open_ledger), sets_(index.sets()) {}

  std::vector<std::string> run() {
    std::map<SetId, SetId> last_use;  // of a state as a base
    for (const IndexedSet& set : sets_) {
      if (set.based_on) last_use[*set.based_on] = set.set;
    }
    std::map<SetId, PathStates> states;
    std::optional<SetId> before;
    for (const IndexedSet& set : sets_) {
      PathStates state;
      if (set.based_on) {
        auto base = states.find(*set.based_on);
        if (base == states.end()) {
          differs(set.set, "it is based on " + set.based_on->to_string() + ", which is not known");
          continue;
        }
        if (last_use[*set.based_on] == set.set) {
          state = std::move(base->second);
          states.erase(base);
        } else {
          state = base->second;
        }
      }
      bool linear = !set.based_on || before == set.based_on;
      before = set.set;
      if (!apply(set, state, linear)) continue;
      compare(set, state);
      if (last_use.contains(set.set)) states.emplace(set.set, std::move(state));
    }
    return std::move(differences_);
  }

 private:
  void differs(SetId set, const std::string& text) {
    if (differences_.size() < kMostDifferences) {
      differences_.push_back(set.to_string() + ": " + text);
    }
  }

  // The ledger of a set on top of its base. False if it cannot be read.
  bool apply(const IndexedSet& set, PathStates& state, bool linear) {
    auto ledger = open_ledger_(set);
    if (!ledger) {
      differs(set.set, "its ledger is not what the index took in");
      return false;
    }
    if (ledger->head().roots != set.roots) differs(set.set, "other roots");
    if (ledger->head().lacking != set.lacking) differs(set.set, "another list of what it lacks");
    std::uint64_t lines = 0;
    std::vector<StretchList> told, held;
    ledger->on_list([&](const StretchList& list) {
      told.push_back(list);
      told.back().path.clear();
    });
    Known known;
    while (ledger->next(known.line)) {
      ++lines;
      const Entry& e = known.line.entry;
      std::string key = path_key(e.path);
      if (e.type == EntryType::kGone || e.type == EntryType::kLeftOut) {
        if (state.erase(key) > 0 && linear) check_end(set, e);
        continue;
      }
      known.location = location_by(known.line, set.set);
      bool own_content = e.type == EntryType::kFile && !known.line.in_set && !known.line.in_path &&
                         known.line.ranges.empty();
      if (own_content) contents_[{set.set, known.location.tar_offset}] = known.line;
      state.insert_or_assign(std::move(key), known);
    }
    index_.each_stretches(set.set, [&](const StretchList& list) { held.push_back(list); });
    if (told != held) differs(set.set, "other stretches of its large files");
    if (lines != set.lines) {
      differs(set.set, fmt::format("{} lines in the ledger, {} taken in", lines, set.lines));
    }
    return true;
  }

  // A set between this one and its base, pruned since, may have seen it first.
  void check_end(const IndexedSet& set, const Entry& line) {
    for (const PathVersion& version : index_.history_of(line.path)) {
      bool ended = version.until && !(set.set < *version.until) &&
                   (!set.based_on || *set.based_on < *version.until);
      if (ended && version.ended == line.type) return;
    }
    differs(set.set, fmt::format("{} is {} there, and the index does not know",
                                 printable(line.path), type_name(line.type)));
  }

  void compare(const IndexedSet& set, const PathStates& state) {
    std::vector<std::int64_t> ancestors = ancestors_of(set.set, sets_);
    Index::Cursor cursor = index_.state_at(set.set);
    IndexEntry held;
    auto told = state.begin();
    while (cursor.next(held)) {
      std::string key = path_key(held.line.entry.path);
      for (; told != state.end() && told->first < key; ++told) missing(set.set, told->second);
      if (told == state.end() || told->first != key) {
        differs(set.set, printable(held.line.entry.path) + ": only the index has it");
        continue;
      }
      compare(set.set, told->second, held, ancestors);
      ++told;
    }
    for (; told != state.end(); ++told) missing(set.set, told->second);
  }

  void missing(SetId set, const Known& known) {
    differs(set, printable(known.line.entry.path) + ": the index does not have it");
  }

  // Where its content was damaged, a file may have been found again in a duplicate of it.
  bool holds(const ContentLocation& location, const Digest& digest) const {
    auto held = contents_.find({location.set, location.tar_offset});
    return held != contents_.end() && held->second.digest == digest &&
           held->second.entry.path == location.path;
  }

  void compare(SetId set, const Known& told, const IndexEntry& held,
               const std::vector<std::int64_t>& ancestors) {
    std::string what = difference_of(told.line.entry, held.line.entry);
    if (what.empty() && told.line.digest != held.line.digest) what = "digest";
    if (what.empty() && told.line.mount != held.line.mount) what = "mount";
    if (what.empty() && told.line.disk != held.line.disk) what = "disk";
    if (what.empty() && told.line.noise != held.line.noise) what = "noise";
    if (what.empty() && told.line.entry.type == EntryType::kFile) {
      auto location = index_.location_of(held.version, ancestors);
      bool same = location && location->set == told.location.set &&
                  location->tar_offset == told.location.tar_offset &&
                  location->path == told.location.path && location->ranges == told.location.ranges;
      if (location && location->ranges.empty() && told.location.ranges.empty() && !same)
        same = holds(*location, *told.line.digest);
      if (!same) {
        what = fmt::format(
            "place of its content: {} at {} in {}, not {} at {} in {}",
            location ? printable(location->path) : "nowhere", location ? location->tar_offset : 0,
            location ? location->set.to_string() : "nothing", printable(told.location.path),
            told.location.tar_offset, told.location.set.to_string());
      }
    }
    if (!what.empty()) differs(set, printable(told.line.entry.path) + ": another " + what);
  }

  Index& index_;
  const Index::LedgerOpener& open_ledger_;
  std::vector<IndexedSet> sets_;
  std::map<std::pair<SetId, std::uint64_t>, LedgerEntry> contents_;  // by tar entry
  std::vector<std::string> differences_;
};

}  // namespace

std::vector<std::string> Index::check(const LedgerOpener& open_ledger) {
  return Check(*this, open_ledger).run();
}

}  // namespace kestrum
