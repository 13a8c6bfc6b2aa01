#include "kestrum/backup/set_commit.h"

#include <algorithm>
#include <future>
#include <memory>
#include <system_error>

#include "kestrum/access/other_disks.h"
#include "kestrum/backup/recovery.h"
#include "kestrum/base/error.h"
#include "kestrum/place/beside.h"
#include "kestrum/place/twin_place.h"

namespace kestrum {

SetCommit::SetCommit(const RunInput& input, OpenShelf& open, Index& index, const RunPlan& plan,
                     const BuiltSet& built)
    : input_(input), open_(open), index_(index), plan_(plan), built_(built) {}

void SetCommit::write_ledger(Place& place, std::optional<std::vector<Lacking>> lacking) {
  lacking_ = std::move(lacking);
  index_.journal_done();
  std::unique_ptr<Index> reader = index_.reader();
  if (!reader) return write_lines(place, index_);
  try {
    preparing_ = std::async(std::launch::async, [this] {
      const NextSet& next = plan_.next;
      index_.prepare_pending(next.id, next.kind, next.based_on);
    });
  } catch (const std::system_error&) {
    // No thread to be had: it is done in the end.
  }
  write_lines(place, *reader);
  if (preparing_.valid()) preparing_.get();
}

void SetCommit::wait_for_index() const {
  if (preparing_.valid()) preparing_.wait();
}

void SetCommit::write_lines(Place& place, Index& journal) {
  seal_.ledger_name = std::string("ledger.jsonl") + built_.packing.suffix();
  std::string path = built_.folder + "/" + seal_.ledger_name;
  seal_.number = next_seal_number(input_.machine, open_);
  LedgerHead head;
  head.shelf = open_.shelf.label().shelf;
  head.set = plan_.next.id;
  head.kind = plan_.next.kind;
  head.based_on = plan_.next.based_on;
  head.roots = plan_.roots.known;
  head.lacking = lacking_;
  head.begun = built_.begun;
  head.started = input_.started;
  head.number = seal_.number;
  head.host = input_.host;
  head.program = KESTRUM_VERSION;
  head.ranges = seal_.ranges = journal.journal_has_ranges();
  seal_.ledger_copy = std::string("ledger-copy.jsonl") + built_.packing.suffix();
  std::string copy = built_.folder + "/" + seal_.ledger_copy;
  // On a disk the copy comes last, and lies elsewhere; a server would have to give back the first
  // for that.
  TwinPlace both(place, copy);
  LedgerWriter ledger(place.is_far() ? both : place, path, built_.packing, head);
  journal.each_journal([&](IndexEntry& entry) {
    if (!entry.index_only) ledger.add(std::move(entry.line));
  });
  journal.each_journal_stretches([&](const StretchList& list) { ledger.add_list(list); });
  journal.each_dead([&](const DeadEntry& dead) { ledger.add_dead(dead); });
  lines_ = ledger.lines();
  ByteCounts bytes = built_.result.bytes;
  bytes.copied += built_.kept_copied;
  ledger.close({0, 0, built_.result.files, bytes, built_.suspicion.value_or("")});
  seal_.ledger_bytes = ledger.file().size();
  seal_.ledger_digest = ledger.file().digest();
  BlocksWriter& blocks = *built_.blocks;
  blocks.add(ledger.file().blocks());
  blocks.end();
  auto look_at_copy = [&] { look_back(copy, seal_.ledger_bytes, seal_.ledger_digest); };
  std::future<void> copy_looked_at;
  if (place.is_far()) copy_looked_at = std::async(look_at_copy);  // or in get(), without a thread
  look_back(path, seal_.ledger_bytes, seal_.ledger_digest);
  if (!copy_looked_at.valid()) {
    copy_bytes(*place.open(path), *place.create(copy));
    look_at_copy();
  }
  blocks.close();
  seal_.blocks_bytes = blocks.size();
  seal_.blocks_digest = blocks.digest();
  look_back(built_.folder + "/" + kBlocksFile, blocks.size(), blocks.digest());
  if (copy_looked_at.valid()) copy_looked_at.get();
}

void SetCommit::look_back(const std::string& path, std::uint64_t size, const Digest& digest) {
  if (built_.read_back == ReadBack::kSizes) check_size(*open_.place, path, size);
  if (built_.read_back >= ReadBack::kParts) read_back(*open_.place, path, size, digest);
}

void SetCommit::tell_files(Observer& observer) {
  if (!observer.wants_files()) return;
  index_.each_journal([&](IndexEntry& entry) {
    const LedgerEntry& line = entry.line;
    EntryType type = line.entry.type;
    if (entry.index_only || type == EntryType::kFolder) return;
    const char* what = type == EntryType::kGone                  ? "gone"
                       : type == EntryType::kLeftOut             ? "left out"
                       : line.in_set || line.in_path.has_value() ? "same content"
                                                                 : "copied";
    observer.file(what, "/" + line.entry.path, line.entry.size);
  });
}

void SetCommit::fill_seal(bool warned) {
  const Shelf& shelf = open_.shelf;
  seal_.parts = built_.parts;
  name_disks();
  // The seal tells of the whole set, the report of what this run did.
  SealTotals& totals = seal_.totals;
  totals.files = built_.result.files.seen;
  totals.bytes = built_.result.bytes.seen;
  totals.copied = built_.result.bytes.copied + built_.kept_copied;
  totals.stored = 2 * seal_.ledger_bytes + seal_.blocks_bytes;
  for (const PartInfo& part : built_.parts) totals.stored += part.bytes;
  seal_.shelf = shelf.label().shelf;
  seal_.suspect = built_.suspicion.has_value();
  seal_.lacking = !lacking_ || !lacking_->empty();
  seal_.set = plan_.next.id;
  seal_.kind = plan_.next.kind;
  seal_.based_on = plan_.next.based_on;
  seal_.begun = built_.begun;
  seal_.started = input_.started;
  seal_.finished = input_.clock.now();
  seal_.outcome = outcome_name(warned ? Outcome::kDoneWithWarnings : Outcome::kDone);
  seal_.verified = built_.read_back == ReadBack::kOff     ? "no"
                   : built_.read_back == ReadBack::kSizes ? "sizes"
                   : built_.read_back == ReadBack::kParts ? "parts"
                                                          : "contents";
  seal_.recipient = shelf.label().recipient;
  seal_.compressed = built_.packing.level != CompressionLevel::kOff;
  if (plan_.next.based_on) seal_.base_seal = shelf.find(*plan_.next.based_on)->seal_digest;
  const ShelfSet* before = shelf.numbered(seal_.number - 1);
  if (before != nullptr) seal_.previous_seal = before->seal_digest;
  totals.stored += seal_.to_json().size();
}

// Where parts lie on more than one disk.
void SetCommit::name_disks() {
  const ShelfLabel& label = open_.shelf.label();
  std::map<std::uint64_t, std::string> disks;
  for (PartInfo& part : seal_.parts) {
    if (!part.disk) part.disk = label.moves;
    const EarlierDisk* earlier = label.earlier_disk(*part.disk);
    disks[*part.disk] = earlier != nullptr
                            ? earlier->name
                            : disk_name(open_.state->record.place, label.moves, label.earlier);
  }
  if (disks.size() > 1 || !disks.contains(label.moves)) seal_.disks = std::move(disks);
}

void SetCommit::seal(SpaceReclaimer& room, bool warned) {
  fill_seal(warned);
  index_.set_pending({plan_.next.id,
                      plan_.next.kind,
                      plan_.next.based_on,
                      input_.started,
                      plan_.roots.known,
                      lacking_,
                      {},
                      seal_.ledger_digest,
                      lines_,
                      built_.suspicion.value_or("")});
  open_.place->sync_folder(built_.folder);
  // Two looks at what is there, which from far away are one.
  auto held = beside_if_far(*open_.place, [&] { input_.lease.check(); });
  open_.place->fetch_ahead({kLabelFile}, {kSetsFolder, kHeadsFolder});
  held.get();
  open_.shelf.check_still_ours(plan_.next.id, built_.folder);
  seal_digest_ = commit_seal(room);
}

void SetCommit::remember() {
  index_.apply_pending(seal_digest_);
  // By what was sealed, not by what a look at the disk gave just now.
  ShelfSet set;
  set.id = seal_.set;
  set.folder = built_.folder;
  set.seal = seal_;
  set.seal_digest = seal_digest_;
  record_newest(open_, set);
  const auto& released = plan_.roots.lost.released;
  if (released.empty()) return;
  open_.state->update_record([&](ShelfRecord& record) {
    std::erase_if(record.released, [&](const ReleasedFolder& folder) {
      return std::find(released.begin(), released.end(), folder.path) != released.end();
    });
  });
}

// A disk may be full to the last block just then.
Digest SetCommit::commit_seal(SpaceReclaimer& room) {
  SigningKey key = open_.state->signing_key();
  for (;;) {
    try {
      return open_.shelf.commit(seal_, heads_of_others(input_.machine, open_), key, built_.folder);
    } catch (const Error& error) {
      if (error.kind() != ErrorKind::kNoRoom || !room.during()) throw;
    }
  }
}

}  // namespace kestrum
