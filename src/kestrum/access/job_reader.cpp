#include "kestrum/access/job_reader.h"

#include <fmt/format.h>

#include <algorithm>

#include "kestrum/access/copy_shelf.h"
#include "kestrum/base/file.h"
#include "kestrum/base/shell_word.h"
#include "kestrum/base/text.h"
#include "kestrum/base/units.h"

namespace kestrum {
namespace {

// What this PC's index knows of a shelf that is away.
std::vector<SetFacts> remembered_facts(const ShelfState& state) {
  std::vector<SetFacts> facts;
  if (!path_exists(state.index_path())) return facts;
  Index index(state.index_path());
  for (const IndexedSet& set : index.sets()) {
    facts.push_back({set.set, set.kind, set.based_on, set.started, true});
  }
  return facts;
}

// The one that a moment means, of one shelf. Who asks for nothing is given no suspect one.
std::optional<SetFacts> choose_of(std::vector<SetFacts> facts, const Moment& moment,
                                  std::optional<SetId> suspect_since, bool unasked) {
  if (unasked && suspect_since && !facts.empty() && facts.front().id < *suspect_since) {
    std::erase_if(facts, [&](const SetFacts& fact) { return !(fact.id < *suspect_since); });
  }
  auto chosen = choose_set(facts, moment);
  if (!chosen) return std::nullopt;
  return *std::find_if(facts.begin(), facts.end(),
                       [&](const SetFacts& fact) { return fact.id == *chosen; });
}

// One terminal question, or one file, does for all disks.
void ask_once(KeySource& keys) {
  if (!keys.passphrase) return;
  auto known = std::make_shared<std::optional<Secret>>();
  keys.passphrase = [ask = keys.passphrase, known] {
    if (!*known) *known = ask();
    return *known;
  };
  if (!keys.again) return;
  keys.again = [again = keys.again, known] {
    auto next = again();
    if (next) *known = next;
    return next;
  };
}

}  // namespace

JobReader::JobReader(const MachineState& machine, ReadOptions options, Observer& observer)
    : options_(std::move(options)), observer_(observer) {
  if (!options_.job) {
    Slot slot;
    slot.shelf = shelf_in_folder(machine, options_.shelf_folder);
    job_name_ = slot.shelf.open->shelf.label().job;
    slots_.push_back(std::move(slot));
    return;
  }
  job_name_ = options_.job->name;
  std::vector<KnownShelf> known = known_shelves(machine, *options_.job, options_.on);
  if (known.size() > 1) ask_once(options_.keys);
  for (KnownShelf& shelf : known) add(std::move(shelf));
}

namespace {

// Where a copy of it is there, that is what can be read now.
void tell_of_copy(const Job& job, const ShelfState& state, Error& why) {
  if (why.kind() != ErrorKind::kPlace) return;
  for (const std::string& place : job.copies.to) {
    try {
      auto copy = find_copy(state, place);
      if (!copy) continue;
      why.add_hint("or read the copy: add --shelf " + shell_word(copy->path));
      return;
    } catch (const Error&) {  // one that cannot be read is no help
    }
  }
}

}  // namespace

void JobReader::add(KnownShelf shelf) {
  Slot slot;
  slot.name = shelf.disk.empty() ? base_name(shelf.place) : shelf.disk;
  if (shelf.open) {
    slot.readable = true;
    for (const ShelfSet& set : shelf.open->shelf.sets()) slot.ids.push_back(set.id);
    slot.facts = shelf.open->shelf.facts();
    std::erase_if(slot.facts, [](const SetFacts& fact) { return !fact.restorable; });
    if (const ShelfSet* first = shelf.open->shelf.first_suspect()) slot.suspect_since = first->id;
  } else {
    try {
      slot.facts = remembered_facts(*shelf.state);
    } catch (const std::exception&) {
      // An index that cannot be read says nothing.
    }
    slot.readable =
        !options_.need_content && !slot.facts.empty() && shelf.why_not->kind() == ErrorKind::kPlace;
    for (const SetFacts& fact : slot.facts) slot.ids.push_back(fact.id);
    if (options_.job) tell_of_copy(*options_.job, *shelf.state, *shelf.why_not);
    slot.why_not = shelf.why_not;
    slot.suspect_since = shelf.state->record.suspect_since;
  }
  slot.shelf = std::move(shelf);
  slots_.push_back(std::move(slot));
}

ReadSession& JobReader::open(Slot& slot) {
  if (slot.session) return *slot.session;
  if (slot.failed) throw *slot.failed;
  try {
    slot.session = std::make_unique<ReadSession>(std::move(slot.shelf), options_, observer_);
  } catch (const Error& error) {
    slot.failed = error;
    throw;
  }
  if (several()) {
    slot.session->elsewhere = [this](const std::string& path) -> std::optional<SeenAt> {
      auto seen = last_seen(path);
      if (!seen) return std::nullopt;
      return SeenAt{seen->session->set(seen->set).started, seen->session->name_of(seen->set),
                    seen->session->asked_for(seen->set)};
    };
  }
  return *slot.session;
}

// The disk that has a set of this number; nullptr if none has.
JobReader::Slot* JobReader::holder(SetId id) {
  std::vector<Slot*> having;
  std::string names, hint;
  for (Slot& slot : slots_) {
    if (std::find(slot.ids.begin(), slot.ids.end(), id) == slot.ids.end()) continue;
    having.push_back(&slot);
    names += (names.empty() ? "" : " and ") + slot.name;
    hint += (hint.empty() ? "--on " : " or --on ") + shell_word(slot.name);
  }
  if (having.size() < 2) return having.empty() ? nullptr : having.front();
  throw Error(ErrorKind::kUsage,
              fmt::format("{}: {} have a {} each", job_name_, names, id.to_string()), hint)
      .about_job(job_name_);
}

Error JobReader::away(const Slot& slot, SetId id) const {
  const Error& why = slot.why_not.value();
  return Error(
             why.kind(),
             fmt::format("{}; {} on {} is what is meant", why.message(), id.to_string(), slot.name),
             why.hint())
      .about_job(job_name_);
}

JobReader::Slot* JobReader::best_for(const Moment& moment, bool unasked, bool readable,
                                     SetFacts& best) {
  Slot* found = nullptr;
  for (Slot& slot : slots_) {
    if (readable && !slot.readable) continue;
    auto fact = choose_of(slot.facts, moment, slot.suspect_since, unasked);
    if (!fact) continue;
    bool oldest = moment.kind == Moment::Kind::kOldest;
    if (found == nullptr || (oldest ? fact->taken < best.taken : best.taken < fact->taken)) {
      found = &slot;
      best = *fact;
    }
  }
  return found;
}

JobReader::Point JobReader::choose(const std::optional<std::string>& moment_text, Nanos now) {
  std::optional<Moment> moment = moment_text ? parse_moment(*moment_text, now) : Moment{};
  if (!several() || !moment) {
    ReadSession& session = open(slots_.front());
    return {&session, session.choose(moment_text, now)};
  }
  Slot* found = nullptr;
  if (moment->kind == Moment::Kind::kSet) {
    found = holder(moment->set);
    if (found == nullptr) return none_found(moment_text, now);
    if (!found->readable) throw away(*found, moment->set);
  } else {
    SetFacts best, any;
    found = best_for(*moment, !moment_text, true, best);
    Slot* of_all = best_for(*moment, !moment_text, false, any);
    if (of_all == nullptr) return none_found(moment_text, now);
    if (found == nullptr) throw away(*of_all, any.id);
    if (of_all != found) {
      lacks_later_ = true;
      observer_.note(fmt::format("{} on {} of {} would be what is meant; {}", any.id.to_string(),
                                 of_all->name, format_local(any.taken),
                                 of_all->why_not.value().message()));
    }
  }
  ReadSession& session = open(*found);
  return {&session, session.choose(moment_text, now)};
}

// Nothing suits: told by the shelf that reaches back furthest, or that could at least be read.
JobReader::Point JobReader::none_found(const std::optional<std::string>& moment_text, Nanos now) {
  SetFacts oldest;
  Slot* slot = best_for({Moment::Kind::kOldest, {}, 0}, false, true, oldest);
  for (Slot& other : slots_) {
    if (slot == nullptr && other.readable) slot = &other;
  }
  ReadSession& session = open(slot != nullptr ? *slot : slots_.front());
  return {&session, session.choose(moment_text, now)};
}

std::vector<ReadSession*> JobReader::sessions() {
  std::vector<ReadSession*> found;
  std::optional<Error> first_error;
  for (Slot& slot : slots_) {
    try {
      if (!slot.readable && slot.why_not) throw *slot.why_not;
      found.push_back(&open(slot));
    } catch (const Error& error) {
      if (error.kind() == ErrorKind::kStopped || !several()) throw;
      if (!first_error || first_error->kind() == ErrorKind::kPlace) first_error = error;
      if (looked_at_all_) continue;
      std::string text = error.message();
      if (text.find(slot.name) == std::string::npos) text = slot.name + ": " + text;
      left_out_.push_back(text);
      if (slot.facts.empty()) observer_.note(text + "; nothing is known of what it holds");
    }
  }
  looked_at_all_ = true;
  if (found.empty()) throw first_error.value();
  return found;
}

std::vector<ReadSession*> JobReader::remembered() {
  static Observer silent;
  std::vector<ReadSession*> found;
  for (Slot& slot : slots_) {
    if (slot.readable || slot.facts.empty()) continue;
    if (!slot.remembered) {
      ReadOptions options = options_;
      options.need_content = false;
      try {
        slot.remembered = std::make_unique<ReadSession>(std::move(slot.shelf), options, silent);
      } catch (const Error&) {
        slot.facts.clear();
        continue;
      }
    }
    found.push_back(slot.remembered.get());
  }
  return found;
}

std::optional<JobReader::Point> JobReader::last_seen(const std::string& path) {
  std::optional<Point> best;
  for (ReadSession* session : sessions()) {
    auto seen = session->last_seen(path);
    if (!seen) continue;
    if (!best || best->session->set(best->set).started < session->set(*seen).started) {
      best = Point{session, *seen};
    }
  }
  return best;
}

}  // namespace kestrum
