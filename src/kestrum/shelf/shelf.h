// The folder at a destination that holds one job's sets: its layout, and how a set is committed.
#pragma once

#include <functional>
#include <memory>
#include <optional>
#include <string>
#include <vector>

#include "kestrum/crypto/signature.h"
#include "kestrum/place/place.h"
#include "kestrum/shelf/head.h"
#include "kestrum/shelf/label.h"
#include "kestrum/shelf/retired.h"
#include "kestrum/shelf/shelf_set.h"
#include "kestrum/shelf/signed_file.h"

namespace kestrum {

inline constexpr const char* kLabelFile = "shelf.json";
inline constexpr const char* kSetsFolder = "sets";
inline constexpr const char* kSealFile = "seal.json";  // in a set's folder
// In the folder of an unfinished set that goes on on another disk.
inline constexpr const char* kGoesOnFile = "goes-on.json";
inline constexpr const char* kKeysFolder = "keys";
inline constexpr const char* kIdentityFile = "keys/identity.age";
inline constexpr const char* kIdentityCopyFile = "keys/identity-copy.age";
inline constexpr const char* kDeskIdentityFile = "keys/identity-desk.age";
inline constexpr const char* kMayNotRemove = ": this account may not remove anything there";
inline constexpr const char* kLastRunFile = "last-run.json";
inline constexpr std::uint64_t kSealLimit = 64 << 20;  // bytes of a seal

// Used by one thread at a time. What it says of the disk is as of the last rescan(); whoever
// changes the shelf holds the job's lock.
class Shelf {
 public:
  // `keys` are those that may sign; none: signatures are not checked. A seal is vouched for by the
  // signature of one of them, for the key of the label, or by a list of what stays valid.
  Shelf(std::shared_ptr<Place> place, ShelfLabel label, std::vector<VerifyKey> keys);

  Place& place() const { return *place_; }
  const ShelfLabel& label() const { return label_; }
  const std::vector<VerifyKey>& keys() const { return keys_; }
  void set_keys(std::vector<VerifyKey> keys);

  // The disk that a part of a sealed set lies on, if the shelf has gone on from it to another one;
  // nullptr for what is to be here.
  const EarlierDisk* lies_on(const Seal& seal, const PartInfo& part) const;

  // All sets in order, damaged ones too. Read once; rescan() reads again.
  const std::vector<ShelfSet>& sets() const { return sets_; }
  const ShelfSet* find(SetId id) const;
  const ShelfSet* newest() const;  // sealed
  // The first that is suspect: it and all that came after are not restored from unasked.
  const ShelfSet* first_suspect() const;
  // Says that a suspect set is all right: a signed file beside its seal.
  void trust(SetId id, const std::string& because, Nanos now, const SigningKey& key);
  // Facts of the sealed sets; `whole` says whether all they are based on is there too.
  std::vector<SetFacts> facts() const;
  void rescan();

  // Numbers of seals. The one that the next is to have: higher than any that is known here.
  std::uint64_t next_number() const;
  // The sealed set whose seal has this number; nullptr if there is none.
  const ShelfSet* numbered(std::uint64_t number) const;
  // What the newest head says that counts; nothing if there is none.
  const std::optional<Head>& head() const { return head_; }
  // Why the shelf is not as it was left, by its own head: it was cut back, or exchanged for an
  // older copy of itself. In words; nothing if it is, or nobody knows.
  std::optional<std::string> set_back() const;
  // Why the last head could not be written: the set stands all the same, and the next run writes
  // one.
  const std::string& head_problem() const { return head_problem_; }
  // What signers that were retired left valid.
  const RetiredSigners& retired() const { return retired_; }
  // Where head and newest seal fell apart, as a crash between the two leaves them, or where it is
  // signed by a key that may not sign any more.
  void catch_up_head(const std::vector<OtherHead>& others, Nanos now, const SigningKey& key);
  // Lets `key` take the place of `old` (empty: whoever it was): lists the seals that are valid now,
  // those listed before and those that are `known`, and signs heads, job copy and words of trust
  // anew. The label is the caller's.
  void retire_signers(const std::vector<VerifyKey>& old, const std::vector<Digest>& known,
                      Nanos now, const SigningKey& key);

  // Leftovers of runs that did not finish: unfinished sets without any seal, and removals.
  std::vector<std::string> leftovers() const { return leftovers_; }
  // Finishes the rename of sets that were sealed but not renamed, and the removals begun, if this
  // account may remove anything.
  void finish_renames();
  // The numbers of whatever lies here and is no sealed set, but for the leftover `own`, which this
  // machine began itself.
  std::vector<SetId> used_numbers(const std::string& own) const;
  // Removes what a run that did not finish left, so that its number is free again when this
  // returns; where this account may not remove anything, it stays as a removal that was begun.
  // False if it turns out to have been sealed meanwhile: then it stays.
  bool discard(const std::string& unfinished_folder);
  // Throws Error(kPlace) if this shelf has come into other hands since it was opened, Error(kBusy)
  // if another folder holds a set of this number: the last look before a set is sealed.
  void check_still_ours(SetId id, const std::string& unfinished_folder) const;

  // Seals what lies in `unfinished_folder`: signature and seal to temporary names, fsync, rename,
  // then the head, then the folder's own rename. Returns the digest of the seal.
  Digest commit(const Seal& seal, const std::vector<OtherHead>& others, const SigningKey& key,
                const std::string& unfinished_folder);

  // Throws Error(kPlace) if the shelf has another owner by now than when it was opened. Asked
  // before anything is removed.
  void check_owner() const;
  // Removes a set for good: after the rename, which survives a power cut, it is none any more.
  // `renamed` is called in between. False, and nothing is done, while somebody reads the set.
  // Throws Error(kFailed), and nothing is done, where this account may not remove anything.
  bool remove(SetId id, const std::function<void()>& renamed);
  // Keeps a set from being removed. Throws Error(kNoMatch) if it was removed meanwhile.
  std::unique_ptr<PlaceHold> hold(SetId id) const;
  // Sets whose removal was begun and not finished.
  std::vector<SetId> removals() const;

  // Throws Error(kDamage) for a missing or malformed label.
  static ShelfLabel read_label(Place& place);
  // By one of keys(), as of the last look at the disk.
  bool label_signed() const { return label_vouched_; }
  // Whether a key that may not sign made the label's signature, and others here as well: then the
  // copies of the keys are older than the shelf, rather than the label changed by somebody.
  bool keys_are_older() const;

 private:
  bool look_at_label() const;
  // Looks at what is new since the last rescan(); what was whole then counts as it was.
  void look_again();
  void fetch_documents();
  void look_at_sets(const std::vector<PlaceEntry>& entries, const std::vector<ShelfSet>& known);
  ShelfSet read_set(SetId id, const std::string& folder) const;
  void check_signature(const ShelfSet& set, const std::string& text) const;
  void fetch_seals(const std::vector<PlaceEntry>& entries, const std::vector<ShelfSet>& known,
                   std::vector<std::string> also = {});
  void check_neighbours();
  void remove_if_allowed(const std::string& folder);
  void put_head(const Head& head, HeadWriter writer);

  std::shared_ptr<Place> place_;
  ShelfLabel label_;
  std::vector<VerifyKey> keys_;
  std::vector<ShelfSet> sets_;
  bool label_vouched_ = false;  // its signature is by one of keys_
  RetiredSigners retired_;
  std::optional<Head> head_;
  std::string head_problem_;
  std::vector<std::string> leftovers_, half_renamed_;
};

}  // namespace kestrum
