#include "kestrum/backup/set_commit.h"

#include "kestrum/backup/recovery.h"
#include "kestrum/base/error.h"

namespace kestrum {

void SetCommit::write_ledger(Place& place) {
  seal_.ledger_name = std::string("ledger.jsonl") + packing_.suffix();
  std::string path = folder_ + "/" + seal_.ledger_name;
  LedgerHeader header{
      open_.shelf.label().shelf, plan_.next.id, plan_.next.kind, plan_.next.based_on,
      plan_.roots.present,       begun_,        report_.started};
  LedgerWriter ledger(place, path, packing_, header);
  index_.each_journal([&](const IndexEntry& entry) {
    if (entry.index_only) return;
    ledger.add(entry.line);
    ++lines_;
  });
  ledger.close();
  seal_.ledger_bytes = ledger.file().size();
  seal_.ledger_digest = ledger.file().digest();
  if (read_back_ != ReadBack::kOff) {
    read_back(*open_.place, path, seal_.ledger_bytes, seal_.ledger_digest);
  }
}

void SetCommit::fill_seal(Nanos finished) {
  const Shelf& shelf = open_.shelf;
  seal_.parts = parts;
  // The seal tells of the whole set, the report of what this run did.
  seal_.bytes = report_.bytes;
  seal_.bytes.copied += kept_copied_;
  seal_.bytes.stored = seal_.ledger_bytes;
  for (const PartInfo& part : parts) seal_.bytes.stored += part.bytes;
  seal_.shelf = shelf.label().shelf;
  seal_.suspect = report_.suspect;
  seal_.suspect_why = report_.suspect_why;
  seal_.set = plan_.next.id;
  seal_.kind = plan_.next.kind;
  seal_.based_on = plan_.next.based_on;
  seal_.begun = begun_;
  seal_.started = report_.started;
  seal_.finished = finished;
  seal_.host = report_.host;
  seal_.program = KESTRUM_VERSION;
  seal_.outcome =
      outcome_name(report_.warning_count > 0 ? Outcome::kDoneWithWarnings : Outcome::kDone);
  seal_.verified = read_back_ == ReadBack::kOff     ? "no"
                   : read_back_ == ReadBack::kParts ? "parts"
                                                    : "contents";
  seal_.encrypted = shelf.label().recipient.has_value();
  seal_.compressed = packing_.level != CompressionLevel::kOff;
  seal_.files = report_.files;
  if (plan_.next.based_on) seal_.base_seal = shelf.find(*plan_.next.based_on)->seal_digest;
  if (const ShelfSet* newest = shelf.newest()) seal_.previous_seal = newest->seal_digest;
  seal_.bytes.stored += seal_.to_json().size();
}

void SetCommit::seal(const Clock& clock, SpaceReclaimer& room) {
  fill_seal(clock.now());
  report_.bytes.stored = seal_.bytes.stored - kept_stored_;
  index_.set_pending({plan_.next.id,
                      plan_.next.kind,
                      plan_.next.based_on,
                      report_.started,
                      plan_.roots.present,
                      {},
                      seal_.ledger_digest,
                      lines_});
  open_.place->sync_folder(folder_);
  open_.shelf.check_still_ours(plan_.next.id, folder_);
  seal_digest_ = commit_seal(room);
}

void SetCommit::remember() {
  index_.apply_pending(seal_digest_);
  // By what was sealed, not by what a look at the disk gave just now.
  ShelfSet set;
  set.id = seal_.set;
  set.folder = folder_;
  set.seal = seal_;
  set.seal_digest = seal_digest_;
  record_newest(open_, set);
}

// A disk may be full to the last block just then.
Digest SetCommit::commit_seal(SpaceReclaimer& room) {
  SigningKey key = open_.state->signing_key();
  for (;;) {
    try {
      return open_.shelf.commit(seal_, key, folder_);
    } catch (const Error& error) {
      if (error.kind() != ErrorKind::kNoRoom || !room.during()) throw;
    }
  }
}

}  // namespace kestrum
