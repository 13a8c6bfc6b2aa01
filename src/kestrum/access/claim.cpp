#include "kestrum/access/claim.h"

#include <fmt/format.h>

#include <algorithm>

#include "kestrum/access/adapt_job_copy.h"
#include "kestrum/access/change_keys.h"
#include "kestrum/access/other_disks.h"
#include "kestrum/access/rebuild_index.h"
#include "kestrum/access/shelf_lease.h"
#include "kestrum/access/unlock.h"
#include "kestrum/base/file.h"
#include "kestrum/base/followed.h"
#include "kestrum/base/host_name.h"
#include "kestrum/base/shell_word.h"
#include "kestrum/base/text.h"
#include "kestrum/crypto/age_stream.h"
#include "kestrum/job/job_file.h"
#include "kestrum/job/job_store.h"
#include "kestrum/machine/schedule_book.h"
#include "kestrum/select/pattern.h"

namespace kestrum {
namespace {

class ShelfClaim {
 public:
  ShelfClaim(const Home& home, const ClaimOptions& options, const Clock& clock, Observer& observer)
      : home_(home), machine_(home), options_(options), clock_(clock), observer_(observer) {}

  ClaimedShelf run() {
    open_.emplace(open_shelf_at(machine_, options_.shelf));
    bool has_keys = open_->place->exists(kIdentityFile);  // whatever the label says
    if (!has_keys) check_protection(*open_, options_.passphrase_given, options_.unprotected_meant);
    const ShelfLabel& label = open_->shelf.label();
    result_.shelf = open_->path;
    result_.old_job = label.job;
    result_.old_host = label.host;
    result_.job = options_.name.value_or(label.job);
    if (label.waits) {
      throw Error(ErrorKind::kPlace,
                  result_.shelf + ": this disk waits until the one before it is full",
                  "it holds nothing yet; claim the disk that the shelf is on")
          .about_path(result_.shelf);
    }
    if (label.moved_to && !options_.look_only) {
      throw Error(
          ErrorKind::kPlace,
          result_.shelf + ": this shelf has moved to " + printable(*label.moved_to),
          "claim it there; what is here can be read: add --shelf " + shell_word(result_.shelf))
          .about_path(result_.shelf);
    }
    unlock();
    if (!options_.look_only) finish_label();
    if (!open_->shelf.keys().empty() && !open_->shelf.label_signed()) {
      problem("shelf.json is not signed by a machine that may sign");
    }
    read_job();
    if (!job_text_.empty()) adapt_job();  // what is refused is refused before anything is written
    look_at_sets();
    if (auto why = why_set_back(machine_, *open_)) {
      problem("the shelf is an older state of itself: " + *why);
    }
    if (options_.look_only) {
      Index index("");
      rebuild(index);
      return result_;
    }
    if (open_->state && label.owner == machine_.machine_id() &&
        JobStore(home_).has(open_->state->record.job)) {
      throw Error(ErrorKind::kUsage,
                  result_.shelf + " is this PC's own, of the job " + open_->state->record.job)
          .about_path(result_.shelf);
    }
    // What this PC wrote to before goes on under its own name, as its job is here.
    goes_on_ =
        open_->state && open_->state->record.job == result_.job && JobStore(home_).has(result_.job);
    if (!goes_on_) JobStore(home_).check_new_name(result_.job);
    check_clock(label, clock_);
    ShelfLease lease;
    lease.take(machine_, *open_, {}, observer_);
    take_over();
    Index index(open_->state->index_path());
    rebuild(index);
    define_job();
    return result_;
  }

 private:
  void problem(const std::string& text, bool damage = true) {
    result_.problems.push_back(text);
    result_.damaged |= damage;
  }

  void unlock() {
    if (!open_->shelf.label().recipient && !open_->place->exists(kIdentityFile)) return;
    auto passphrase = options_.passphrase();
    if (!passphrase) {
      throw Error(ErrorKind::kPassphrase, "the passphrase of " + result_.old_job + " is needed",
                  "give it by --passphrase-from FILE or KESTRUM_PASSPHRASE");
    }
    passphrase_ = *passphrase;
    identity_ = unlock_with_tries(*open_, passphrase_, options_.again);
    open_->shelf.set_keys(identity_->keys());
    recipient_ = identity_->identities.at(0).recipient();
    const std::optional<Recipient>& named = open_->shelf.label().recipient;
    if (open_->shelf.keys_are_older()) {
      if (!options_.look_only) throw keys_are_older(*open_);
      problem("the copies of the keys here are older than the shelf: its newest sets do not open");
    } else if (named && identity_->opens(*named)) {
      recipient_ = *named;
    } else if (!open_->shelf.label_signed()) {
      // What the identity says counts, whatever somebody wrote into shelf.json.
      problem("shelf.json names another key than the identity file; the identity's is taken");
    } else if (options_.look_only) {
      problem("the copies of the keys here are older than the shelf: its newest sets do not open");
    } else {
      require_current_key(*open_, *identity_);
    }
  }

  // A machine was cut off while it wrote the label.
  void finish_label() {
    std::vector<VerifyKey> keys = open_->shelf.keys();
    if (!finish_signed(*open_->place, kLabelFile, keys)) return;
    open_->shelf = Shelf(open_->place, Shelf::read_label(*open_->place), keys);
  }

  void read_job() {
    std::string name = identity_ ? "job.toml.age" : "job.toml";
    try {
      std::string content = read_small(*open_->place, name);
      std::string signature = read_small(*open_->place, name + ".minisig");
      if (identity_ && !signature_valid(as_bytes(content), signature, identity_->keys())) {
        throw Error(ErrorKind::kDamage, name + " is not signed by a machine that may sign");
      }
      job_text_ = content;
      if (identity_) {
        Secret plain = age_decrypt(as_bytes(content), identity_->identities, name);
        job_text_.assign(plain.view().begin(), plain.view().end());
      }
      ParsedJob parsed = parse_job(result_.job, job_text_);
      for (const JobProblem& wrong : parsed.problems) {
        if (wrong.error) throw Error(ErrorKind::kDamage, wrong.text());
      }
    } catch (const Error& error) {
      if (error.kind() == ErrorKind::kPlace) throw;
      job_text_.clear();
      problem("the copy of the job cannot be used (" + error.message() +
              "); its folders are taken from the newest set");
    }
  }

  void look_at_sets() {
    for (const ShelfSet& set : open_->shelf.sets()) {
      if (!set.sealed()) {
        problem(set.id.to_string() + ": " + set.problem);
        continue;
      }
      ++result_.sets;
      result_.newest = set.seal.started;
      result_.files = set.seal.totals.files;
    }
  }

  void rebuild(Index& index) {
    std::vector<Identity> identities;
    if (identity_) identities = identity_->identities;
    RebuildResult rebuilt = update_index(open_->shelf, index, identities, observer_);
    for (auto& text : rebuilt.problems) problem(text);
    if (auto newest = index.newest()) roots_ = root_paths(*newest);
    if (adapted_text_.empty()) adapt_job();
  }

  // The job as it is to be here.
  void adapt_job() {
    if (job_text_.empty()) {
      std::vector<std::string> patterns;
      for (const std::string& root : roots_) patterns.push_back(pattern_of_path(root));
      job_text_ = render_job({{"source.folders", patterns},
                              {"protection.mode", std::string(identity_ ? "passphrase" : "none")}});
    }
    AdaptedJob adapted =
        adapt_job_copy(job_text_, {result_.job, result_.shelf, place_folder(), options_.map});
    if (adapted.had_unknown_keys) {
      problem("the copy of the job has keys that are not known here; they are left out", false);
    }
    adapted_text_ = adapted.text;
    result_.before = adapted.before;
    result_.after = adapted.after;
    result_.folders = adapted.folders;
    result_.missing.clear();
    for (const auto& folder : adapted.folders) {
      if (!has_wildcard(folder) && !is_named(path_of_pattern(folder)))
        result_.missing.push_back(folder);
    }
  }

  // <place>/<host>/<job>
  std::string place_folder() const { return parent_of(parent_of(result_.shelf)); }

  void take_over() {
    ShelfLabel label = open_->shelf.label();
    // A run of this that was cut short left a state: its key is the one to go on with.
    bool known = open_->state.has_value();
    SigningKey key = known ? open_->state->signing_key() : SigningKey::generate();
    // The PC that this one was copied from has that key too.
    bool copied = known && machine_.is_copied(open_->state->record);
    // What a key signed after it was retired would count again.
    const std::vector<VerifyKey>& retired = open_->shelf.retired().keys;
    if (copied ||
        (known && std::find(retired.begin(), retired.end(), key.verify_key()) != retired.end())) {
      key = SigningKey::generate();
      open_->state->save_signing_key(key);
    }
    std::vector<VerifyKey> old = identity_ ? identity_->keys() : std::vector<VerifyKey>{};
    std::erase(old, key.verify_key());
    ShelfRecord record;
    record.machine = machine_.machine_id();
    record.shelf = label.shelf;
    record.job = result_.job;
    record.host = label.host;
    record.place = place_folder();
    record.folder = result_.shelf.substr(record.place == "/" ? 1 : record.place.size() + 1);
    // Until what others signed is listed, their keys are good as well. On an unprotected shelf
    // nothing vouches for them: what is there now is taken as it is.
    if (identity_) {
      record.keys.signers = old;
      record.keys.signers.push_back(key.verify_key());
    }
    record.moves = label.moves;
    for (const EarlierDisk& disk : label.earlier) record.earlier.push_back({disk, ""});
    record.last_seen = record.since = calendar_now();
    record.last_unlocked = identity_ ? calendar_now() : 0;
    record.keys.recipient = recipient_;
    for (const ShelfSet& set : open_->shelf.sets()) {
      record.newest.highest_chain = std::max(record.newest.highest_chain, set.id.chain);
    }
    if (const ShelfSet* newest = open_->shelf.newest()) {
      record.newest.set = newest->id;
      record.newest.seal = newest->seal_digest;
      record.newest.number = newest->seal.number;
    }
    if (open_->shelf.head()) record.others = open_->shelf.head()->others;
    if (const ShelfSet* suspect = open_->shelf.first_suspect()) record.suspect_since = suspect->id;
    record.folders_here = folders_here();
    if (known) {
      open_->state->update_record([&](ShelfRecord& before) { before = record; });
    } else {
      open_->state = machine_.create(record);
      open_->state->save_signing_key(key);
      open_->state->save_record();
    }
    // The passphrase vouches for the new machine before it signs anything.
    std::vector<Recipient> desk = desk_recipients();
    if (identity_) vouch_for(key, old, desk);
    label.owner = machine_.machine_id();
    label.recipient = record.keys.recipient;
    label.copy_of.reset();  // from here on it is a shelf of its own
    write_own_label(*open_->place, *open_->state, label);
    // Whoever wrote here before sees now that it must not any more; what it sealed up to here
    // stays.
    open_->shelf =
        Shelf(open_->place, label, identity_ ? record.keys.signers : std::vector<VerifyKey>{});
    if (!identity_ || !old.empty()) open_->shelf.retire_signers(old, {}, clock_.now(), key);
    if (identity_) vouch_for(key, {}, desk);
    open_->state->update_record(
        [&](ShelfRecord& known_now) { known_now.keys.signers = {key.verify_key()}; });
    open_->shelf.set_keys({key.verify_key()});
  }

  // What this PC knew of an earlier claim goes on for the sets of then.
  std::vector<FolderHere> folders_here() const {
    std::vector<FolderHere> folders;
    if (open_->state) folders = open_->state->record.folders_here;
    if (open_->shelf.sets().empty()) return folders;
    SetId up_to = open_->shelf.sets().back().id;
    for (const auto& pair : options_.map) {
      std::erase_if(folders, [&](const FolderHere& known) { return known.there == pair.first; });
      folders.push_back({pair.first, pair.second, up_to});
    }
    return folders;
  }

  // By the passphrase, for the key of this PC and those of others.
  void vouch_for(const SigningKey& key, const std::vector<VerifyKey>& others,
                 const std::vector<Recipient>& desk) {
    auto before = std::exchange(identity_->signers, {});
    identity_->signers.emplace_back(key.verify_key(), host_name());
    for (const auto& signer : before) {
      if (std::find(others.begin(), others.end(), signer.first) != others.end()) {
        identity_->signers.push_back(signer);
      }
    }
    rewrap_identity(*open_, *identity_, passphrase_, desk);
  }

  // Whose copy of the identity has to know of this machine too.
  std::vector<Recipient> desk_recipients() {
    std::vector<Recipient> recipients;
    if (!adapted_text_.empty()) recipients = parse_job(result_.job, adapted_text_).job.also_for;
    if (recipients.empty() && open_->place->exists(kDeskIdentityFile)) {
      problem(std::string(kDeskIdentityFile) +
                  ": who can open it is not known, so that it does not " + "vouch for this PC",
              false);
    }
    return recipients;
  }

  void define_job() {
    ScheduleBook(machine_).update(result_.job, [&](ScheduleState& state) {
      state.paused = true;
      state.paused_until = 0;
      state.settled = clock_.now();
    });
    if (!goes_on_) JobStore(home_).create(result_.job, adapted_text_);
  }

  const Home& home_;
  MachineState machine_;
  const ClaimOptions& options_;
  const Clock& clock_;
  Observer& observer_;
  std::optional<OpenShelf> open_;
  std::optional<IdentityFile> identity_;
  std::optional<Recipient> recipient_;  // that the sets to come are encrypted to
  Secret passphrase_;
  std::string job_text_, adapted_text_;
  std::vector<std::string> roots_;
  bool goes_on_ = false;  // with a job that is here
  ClaimedShelf result_;
};

}  // namespace

ClaimedShelf claim_shelf(const Home& home, const ClaimOptions& options, const Clock& clock,
                         Observer& observer) {
  return ShelfClaim(home, options, clock, observer).run();
}

}  // namespace kestrum
