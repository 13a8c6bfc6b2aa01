// A shelf and its index opened for reading: what look, restore and verify stand on.
#pragma once

#include <functional>
#include <map>
#include <memory>
#include <optional>
#include <set>
#include <string>
#include <vector>

#include "kestrum/access/find_shelf.h"
#include "kestrum/base/folder_map.h"
#include "kestrum/base/observer.h"
#include "kestrum/chain/moment.h"
#include "kestrum/crypto/secret.h"
#include "kestrum/machine/index.h"

namespace kestrum {

// How the keys of a shelf may be had. Asked only when they are needed.
struct KeySource {
  std::function<std::optional<Secret>()> passphrase;
  // Another one, where the last was wrong and somebody is there to be asked; nothing otherwise.
  std::function<std::optional<Secret>()> again;
  std::vector<Identity> key_file;     // --key-file; used instead of the passphrase if not empty
  std::optional<std::string> signer;  // fingerprint of who is known to sign; with `key_file`
  bool given = false;                 // not only to be had by asking
  bool unprotected_meant = false;     // a shelf without a passphrase will do
};

struct ReadOptions {
  std::optional<Job> job;         // of this machine, or
  std::string shelf_folder;       // a shelf on a disk
  std::optional<std::string> on;  // of the job's disks this one
  bool need_content = false;      // the keys are needed whatever the index knows
  KeySource keys;
};

// Where a path was seen last, in words and as it is asked for.
struct SeenAt {
  Nanos when = 0;
  std::string name, asked_for;  // see ReadSession::name_of
};

// Used by one thread. Needs no lock: a run beside it only adds to what it reads, and what is pruned
// meanwhile is told as missing.
class ReadSession {
 public:
  // Throws Error: kPlace if the shelf is away (and content is needed, or this PC's index knows
  // nothing), kPassphrase, kDamage.
  ReadSession(KnownShelf shelf, const ReadOptions& options, Observer& observer);

  // Nothing if the disk is away and this PC's index answers for it.
  OpenShelf* shelf() { return open_ ? &*open_ : nullptr; }
  Index& index() { return *index_; }
  // Opens the keys now, where content was asked for and that can wait: of a shelf that this PC
  // knows, what is wrong with a time or a path is told before anybody is asked for a passphrase.
  // Throws Error(kPassphrase). Before anything is written, and before secrets are forgotten.
  void unlock_content();
  const std::vector<Identity>& identities() {
    unlock_content();
    return identities_;
  }
  const std::string& job_name() const { return job_name_; }
  const std::string& disk() const { return disk_; }  // empty if the job has no other
  // "c3-7", and "c3-7 on blue-disk" if the job has several.
  std::string name_of(SetId id) const;
  // The options that choose a set: "--point c3-7", and the disk if the job has several.
  std::string asked_for(SetId id) const;

  // The sets that the index knows, in order.
  const std::vector<IndexedSet>& sets() const { return sets_; }
  const IndexedSet& set(SetId id) const;
  // The restore point that TIME means; throws Error(kNoMatch) if there is none, Error(kUsage) if
  // the text is no TIME. Without text: the newest before any that is suspect.
  SetId choose(const std::optional<std::string>& moment_text, Nanos now) const;
  // The first set that is suspect, and that nobody trusts.
  const std::optional<SetId>& suspect_since() const { return suspect_since_; }
  // Where folders lie here that lay elsewhere on the PC that made the set, as a claim was told.
  FolderMap folders_here(SetId id) const;
  // Whether a restore point leans on a set of which the names in its tar alone are known. Such a
  // one is not chosen unasked.
  bool names_only(SetId id) const;
  // Whether a set newer than all that can be used is damaged or not there any more: the newest that
  // can be used is not what somebody meant by the newest.
  bool lacks_newest() const;
  // The newest set that holds `path`; nothing if none does.
  std::optional<SetId> last_seen(const std::string& path);
  // The same over all disks of the job.
  std::optional<SeenAt> seen_anywhere(const std::string& path);
  // Asks the job's other disks too; see JobReader.
  std::function<std::optional<SeenAt>(const std::string& path)> elsewhere;
  // Keeps a restore point, and all that it is based on, from being pruned until the session ends.
  void hold(SetId id);
  // What was held may go from here on: the disk is to be taken out.
  void release_holds() { holds_.clear(); }
  std::vector<std::int64_t> ancestors(SetId id) const { return ancestors_of(id, sets_); }

 private:
  SetId choose_any(const std::optional<std::string>& moment_text, Nanos now) const;
  std::optional<SetId> newest_whole() const;
  void tell_lost_sets();
  void answer_from_memory(const KnownShelf& shelf, const ReadOptions& options);
  std::string on_disk(const std::string& text) const;
  std::unique_ptr<Index> own_index(const ReadOptions& options);
  void unlock(const ReadOptions& options);

  std::string disk_;
  std::optional<OpenShelf> open_;
  std::unique_ptr<Index> index_;
  std::vector<Identity> identities_;
  bool unlocked_ = false;
  std::optional<ReadOptions> locked_;  // how to open the keys that content needs
  std::string job_name_;
  std::vector<IndexedSet> sets_;
  std::set<std::string> told_;  // problems of sets that were named already
  std::optional<SetId> suspect_since_;
  std::vector<FolderHere> folders_here_;
  std::map<SetId, std::unique_ptr<PlaceHold>> holds_;
  std::set<SetId> names_only_;
  std::vector<SetId> not_indexed_;  // sound, but unknown to the index that answers
  Observer& observer_;
};

}  // namespace kestrum
