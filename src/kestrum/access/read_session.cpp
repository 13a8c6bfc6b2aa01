#include "kestrum/access/read_session.h"

#include <fmt/format.h>

#include <algorithm>
#include <cstdlib>

#include "kestrum/access/rebuild_index.h"
#include "kestrum/access/unlock.h"
#include "kestrum/base/file.h"
#include "kestrum/base/shell_word.h"
#include "kestrum/base/text.h"
#include "kestrum/base/units.h"

namespace kestrum {

// Who asks for the newest is given the newest that can be used, and told so.
void ReadSession::tell_lost_sets() {
  const Shelf& shelf = open_->shelf;
  const ShelfSet* newest = shelf.newest();
  auto is_newer = [&](SetId id) { return newest == nullptr || newest->id < id; };
  for (const ShelfSet& set : shelf.sets()) {
    if (!is_newer(set.id)) continue;
    observer_.note(name_of(set.id) + " cannot be used: " + set.problem);
    told_.insert(set.problem);
  }
  if (!open_->state || !open_->state->record.newest.set) return;
  SetId last = *open_->state->record.newest.set;
  if (is_newer(last) && shelf.find(last) == nullptr && shelf.label().may_be_behind()) {
    observer_.note("this is a copy that is behind its shelf, which has " + name_of(last));
  } else if (is_newer(last) && shelf.find(last) == nullptr) {
    observer_.note(name_of(last) + ", which this PC wrote, is not on this shelf any more");
  }
}

ReadSession::ReadSession(KnownShelf shelf, const ReadOptions& options, Observer& observer)
    : disk_(std::move(shelf.disk)), observer_(observer) {
  if (options.job) job_name_ = options.job->name;
  if (!shelf.open) {
    answer_from_memory(shelf, options);
    return;
  }
  open_.emplace(std::move(*shelf.open));
  if (!options.job) {
    check_protection(*open_, options.keys.given, options.keys.unprotected_meant);
    job_name_ = open_->shelf.label().job;
  }
  if (open_->state) folders_here_ = open_->state->record.folders_here;
  if (!open_->read_only.empty()) observer.note(on_disk(open_->read_only));
  if (const ShelfSet* first = open_->shelf.first_suspect()) suspect_since_ = first->id;
  bool can_wait = open_->state && open_->read_only.empty();
  if (options.need_content && can_wait) locked_ = options;
  if (options.need_content && !can_wait) unlock(options);
  tell_lost_sets();
  index_ = own_index(options);
  if (!index_) {
    unlock(options);
    index_ = std::make_unique<Index>("");  // a private file of SQLite's that goes with it
    RebuildResult result =
        update_index(open_->shelf, *index_, identities_, observer, LostLedger::kNamesFromTar);
    names_only_.insert(result.names_only.begin(), result.names_only.end());
    for (const auto& problem : result.problems) {
      if (!told_.contains(problem)) observer.note(on_disk(problem));
    }
  }
  sets_ = index_->sets();
  if (sets_.empty()) {
    throw Error(ErrorKind::kNoMatch, on_disk(job_name_ + " has no restore point yet"),
                "kestrum run " + job_name_)
        .about_job(job_name_);
  }
}

// The disk is in a drawer; what lies on it is known here all the same.
void ReadSession::answer_from_memory(const KnownShelf& shelf, const ReadOptions& options) {
  const Error& why = shelf.why_not.value();
  const ShelfState& state = shelf.state.value();
  if (why.kind() != ErrorKind::kPlace || options.need_content || !state.record.newest.set ||
      !path_exists(state.index_path())) {
    throw why;
  }
  index_ = std::make_unique<Index>(state.index_path());
  sets_ = index_->sets();
  suspect_since_ = state.record.suspect_since;
  folders_here_ = state.record.folders_here;
  if (sets_.empty()) throw why;
  observer_.note(why.message() + "; answered from what this PC knows of it");
}

std::string ReadSession::name_of(SetId id) const {
  return id.to_string() + (disk_.empty() ? "" : " on " + disk_);
}

std::string ReadSession::asked_for(SetId id) const {
  return "--point " + id.to_string() + shell_option("on", disk_);
}

std::string ReadSession::on_disk(const std::string& text) const {
  return disk_.empty() ? text : disk_ + ": " + text;
}

// This PC's index, if it can answer for the shelf as it is; a reader that can open the ledgers
// itself takes it only if it knows every set.
std::unique_ptr<Index> ReadSession::own_index(const ReadOptions& options) {
  if (!open_->state || !path_exists(open_->state->index_path())) return nullptr;
  try {
    auto own = std::make_unique<Index>(open_->state->index_path());
    if (!index_matches(open_->shelf, *own)) return nullptr;
    not_indexed_ = sets_not_indexed(open_->shelf, *own, open_->state->record.damage);
    if (not_indexed_.empty()) return own;
    if (options.need_content || !open_->shelf.label().recipient) {
      not_indexed_.clear();
      return nullptr;
    }
    observer_.note(counted(not_indexed_.size(), "set") + " (" + name_of(not_indexed_[0]) +
                   (not_indexed_.size() > 1 ? ", ..." : "") +
                   ") can be restored from, but only with the passphrase: this PC's index does "
                   "not know " +
                   (not_indexed_.size() > 1 ? "them" : "it"));
    return own;
  } catch (const SQLite::Exception& error) {
    observer_.note(on_disk("this PC's index cannot be used now (") + index_error(error).message() +
                   "); the ledgers on the disk are read instead");
  } catch (const Error& error) {
    if (error.kind() == ErrorKind::kPlace) throw;
    observer_.note(on_disk("this PC's index cannot be used now (") + error.message() +
                   "); the ledgers on the disk are read instead");
  }
  return nullptr;
}

void ReadSession::unlock_content() {
  if (!locked_) return;
  unlock(*locked_);
  locked_.reset();
}

void ReadSession::unlock(const ReadOptions& options) {
  if (unlocked_ || !open_->shelf.label().recipient) return;
  IdentityFile identity;
  if (!options.keys.key_file.empty()) {
    identity = unlock_shelf_with_key_file(*open_, options.keys.key_file, options.keys.signer);
    if (open_->signers_unknown) {
      for (const auto& [key, host] : identity.signers) {
        observer_.note(
            "nobody vouches for this shelf: anybody can encrypt to a key file. It says that " +
            printable(host) + " signs it, fingerprint " + key.fingerprint());
      }
    }
  } else {
    std::optional<Secret> passphrase;
    if (options.keys.passphrase) passphrase = options.keys.passphrase();
    if (!passphrase) {
      throw Error(ErrorKind::kPassphrase, "the passphrase of " + job_name_ + " is needed for this",
                  "give it by --passphrase-from FILE or KESTRUM_PASSPHRASE");
    }
    identity = unlock_with_tries(*open_, *passphrase, options.keys.again);
  }
  if (!holds_current_key(*open_, identity)) {
    observer_.note(
        "the copies of the keys that open are older than the shelf: its newest sets do not open");
  }
  if (open_->vouched() && !open_->state && !open_->shelf.label_signed()) {
    observer_.note(
        "shelf.json is not signed by a machine that may sign: what it says may be untrue");
  }
  identities_ = identity.identities;
  unlocked_ = true;
}

const IndexedSet& ReadSession::set(SetId id) const {
  auto it = std::find_if(sets_.begin(), sets_.end(), [&](const auto& s) { return s.set == id; });
  if (it == sets_.end()) throw Error(ErrorKind::kNoMatch, "no set " + id.to_string());
  return *it;
}

FolderMap ReadSession::folders_here(SetId id) const {
  FolderMap map;
  for (const FolderHere& folder : folders_here_) {
    if (!(folder.up_to < id)) map.emplace_back(folder.there, folder.here);
  }
  return map;
}

bool ReadSession::names_only(SetId id) const {
  if (names_only_.empty()) return false;
  std::vector<std::int64_t> chain = ancestors(id);
  return std::any_of(names_only_.begin(), names_only_.end(), [&](SetId lost) {
    return std::find(chain.begin(), chain.end(), lost.sequence()) != chain.end();
  });
}

// Nothing if every one leans on a lost ledger.
std::optional<SetId> ReadSession::newest_whole() const {
  auto it = std::find_if(sets_.rbegin(), sets_.rend(),
                         [&](const IndexedSet& s) { return !names_only(s.set); });
  return it == sets_.rend() ? std::nullopt : std::optional(it->set);
}

bool ReadSession::lacks_newest() const {
  if (!open_) return false;
  SetId newest = newest_whole().value_or(sets_.front().set);
  const std::vector<ShelfSet>& there = open_->shelf.sets();
  return (!there.empty() && newest < there.back().id) ||
         (open_->state && open_->state->record.newest.set &&
          !open_->shelf.label().may_be_behind() && newest < *open_->state->record.newest.set);
}

SetId ReadSession::choose(const std::optional<std::string>& moment_text, Nanos now) const {
  SetId chosen = choose_any(moment_text, now);
  if (!names_only(chosen)) return chosen;
  auto whole = newest_whole();
  if (!moment_text && whole) {
    observer_.note(
        fmt::format("{} is taken, the newest whose names are all known; {} takes "
                    "the newest all the same",
                    name_of(*whole), asked_for(chosen)));
    return *whole;
  }
  observer_.note(name_of(chosen) +
                 " is put together from what is left: files deleted by then may be among it, and "
                 "files that had been moved may be missing");
  return chosen;
}

SetId ReadSession::choose_any(const std::optional<std::string>& moment_text, Nanos now) const {
  Moment moment;
  if (!moment_text && suspect_since_ && sets_.front().set < *suspect_since_) {
    auto trusted = std::find_if(sets_.rbegin(), sets_.rend(),
                                [&](const IndexedSet& s) { return s.set < *suspect_since_; });
    observer_.note(
        fmt::format("{} is suspect: {} of {} is taken, the newest before it; --point "
                    "newest takes {} all the same",
                    name_of(*suspect_since_), name_of(trusted->set), format_local(trusted->started),
                    name_of(sets_.back().set)));
    return trusted->set;
  }
  if (moment_text) {
    auto parsed = parse_moment(*moment_text, now);
    if (!parsed) {
      throw Error(ErrorKind::kUsage, "--point: not a time: \"" + printable(*moment_text) + "\"",
                  kMomentsInWords);
    }
    moment = *parsed;
  }
  std::vector<SetFacts> facts;
  for (const auto& s : sets_) facts.push_back({s.set, s.kind, s.based_on, s.started, true});
  auto chosen = choose_set(facts, moment);
  const ShelfSet* named =
      open_ && moment.kind == Moment::Kind::kSet ? open_->shelf.find(moment.set) : nullptr;
  if (!chosen && named != nullptr &&
      std::find(not_indexed_.begin(), not_indexed_.end(), named->id) != not_indexed_.end()) {
    throw Error(ErrorKind::kPassphrase,
                name_of(named->id) + " is there, but this PC's index does not know it",
                "with the passphrase its ledger is read: kestrum restore " + job_name_ + " " +
                    asked_for(named->id) + " --to DIR")
        .about_job(job_name_);
  }
  if (!chosen && named != nullptr) {
    throw Error(ErrorKind::kDamage,
                fmt::format("{} cannot be used: {}", name_of(named->id),
                            named->sealed() ? "its ledger, or a set that it needs, is damaged"
                                            : named->problem),
                "which restore points are whole: kestrum verify " + job_name_)
        .about_job(job_name_);
  }
  if (!chosen) {
    throw Error(ErrorKind::kNoMatch,
                fmt::format("no restore point of {} at \"{}\"", job_name_, printable(*moment_text)),
                fmt::format("the oldest is {} of {}", name_of(sets_.front().set),
                            format_local(sets_.front().started)))
        .about_job(job_name_);
  }
  if (moment.kind == Moment::Kind::kTime) {
    Nanos gap = moment.time - set(*chosen).started;
    bool exact = moment_text->find(':') != std::string::npos || moment_text->ends_with("ago");
    if (gap >= kDay || (exact && gap > kMinute)) {
      observer_.note(fmt::format("the last restore point before \"{}\" is of {}, {} earlier",
                                 printable(*moment_text), format_local(set(*chosen).started),
                                 format_duration(gap / kMinute * kMinute)));
    }
  }
  return *chosen;
}

std::optional<SetId> ReadSession::last_seen(const std::string& path) {
  auto versions = index_->history_of(path);
  if (versions.empty()) return std::nullopt;
  const PathVersion& last = versions.back();
  if (!last.until) return sets_.back().set;
  for (auto it = sets_.rbegin(); it != sets_.rend(); ++it) {
    if (it->set < *last.until && !(it->set < last.first)) return it->set;
  }
  return std::nullopt;
}

std::optional<SeenAt> ReadSession::seen_anywhere(const std::string& path) {
  if (elsewhere) return elsewhere(path);
  auto seen = last_seen(path);
  if (!seen) return std::nullopt;
  return SeenAt{set(*seen).started, name_of(*seen), asked_for(*seen)};
}

void ReadSession::hold(SetId id) {
  if (!open_) return;
  for (std::int64_t sequence : ancestors(id)) {
    SetId set = SetId::from_sequence(sequence);
    if (!holds_.contains(set) && open_->shelf.find(set) != nullptr) {
      holds_.emplace(set, open_->shelf.hold(set));
    }
  }
}

}  // namespace kestrum
