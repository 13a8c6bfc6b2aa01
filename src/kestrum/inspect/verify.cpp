#include "kestrum/inspect/verify.h"

#include <algorithm>
#include <set>

#include "kestrum/access/content_disks.h"
#include "kestrum/access/known_damage.h"
#include "kestrum/access/ledger_copies.h"
#include "kestrum/access/mend_blocks.h"
#include "kestrum/access/rebuild_index.h"
#include "kestrum/base/error.h"
#include "kestrum/base/file.h"
#include "kestrum/inspect/damage_map.h"
#include "kestrum/inspect/verify_shelf_files.h"
#include "kestrum/restore/content_reader.h"

namespace kestrum {
namespace {

// The part in which the content at `tar_offset` begins.
std::vector<PartInfo>::const_iterator part_at(const Seal& seal, std::uint64_t tar_offset) {
  return std::upper_bound(
             seal.parts.begin(), seal.parts.end(), tar_offset,
             [](std::uint64_t value, const PartInfo& part) { return value < part.tar_offset; }) -
         1;
}

// That `only` and what it is based on, or all.
std::set<SetId> wanted_sets(const Shelf& shelf, std::optional<SetId> only) {
  std::set<SetId> wanted;
  if (!only) {
    for (const ShelfSet& set : shelf.sets()) wanted.insert(set.id);
    return wanted;
  }
  std::optional<SetId> at = only;
  while (at && wanted.insert(*at).second) {
    const ShelfSet* set = shelf.find(*at);
    at = set != nullptr && set->sealed() ? set->seal.based_on : std::nullopt;
  }
  return wanted;
}

class Verify {
 public:
  Verify(OpenShelf& open, std::span<const Identity> identities, const VerifyRequest& request,
         Observer& observer)
      : open_(open),
        shelf_(open.shelf),
        identities_(identities),
        request_(request),
        observer_(observer),
        reader_(shelf_, identities, request.stop) {}

  VerifyResult run() {
    result_.damage = check_shelf_files(open_, identities_);
    check_newest();
    std::set<SetId> wanted = wanted_sets(shelf_, request_.only);
    for (const ShelfSet& set : shelf_.sets()) {
      if (!wanted.contains(set.id) || !set.sealed()) continue;
      for (const PartInfo& part : set.seal.parts) all_bytes_ += part.bytes;
      all_bytes_ += 2 * set.seal.ledger_bytes + set.seal.blocks_bytes;
    }
    for (const ShelfSet& set : shelf_.sets()) {
      if (!wanted.contains(set.id)) continue;
      stop_if_asked();
      auto held = hold(set);
      if (!held) continue;
      ++result_.sets;
      checked_.push_back(set.id);
      if (set.sealed() && set.seal.based_on && shelf_.find(*set.seal.based_on) == nullptr) {
        where_.add_set(*set.seal.based_on, result_.damage.size());
        add(set.id, "seal.json",
            "the set it is based on, " + set.seal.based_on->to_string() + ", is not on this shelf");
      }
      check_set(set);
    }
    work_out_losses();
    remember();
    return std::move(result_);
  }

 private:
  // Nothing if it was removed meanwhile, which is no damage.
  std::unique_ptr<PlaceHold> hold(const ShelfSet& set) {
    try {
      return shelf_.hold(set.id);
    } catch (const Error& error) {
      if (error.kind() != ErrorKind::kNoMatch) throw;
      observer_.note(error.message());
      return nullptr;
    }
  }

  void stop_if_asked() const {
    if (request_.stop && request_.stop()) throw Error(ErrorKind::kStopped, "stopped");
  }

  Damage& add(std::optional<SetId> set, std::string file, std::string reason) {
    result_.damage.push_back({set, std::move(file), std::move(reason), {}});
    return result_.damage.back();
  }

  // A shelf that was set back to an earlier day is whole in itself; only this machine can tell.
  void check_newest() {
    bool knows_newest = open_.state && open_.state->record.newest.set;
    if (!knows_newest || shelf_.label().may_be_behind())
      return check_heads();  // a copy may be behind
    const ShelfRecord& record = open_.state->record;
    const ShelfSet* set = shelf_.find(*record.newest.set);
    if (set == nullptr) {
      add(record.newest.set, "", "this PC wrote it, and it is not on this shelf any more");
    } else if (set->sealed() && set->seal_digest != record.newest.seal) {
      add(record.newest.set, "seal.json", "it is not the seal that this PC wrote");
    } else {
      check_heads();
    }
  }

  // The shelf's own head, and other disks of the job, tell also whoever never saw it before.
  void check_heads() {
    if (request_.set_back) add({}, kHeadsFolder, *request_.set_back);
  }

  void check_set(const ShelfSet& set) {
    if (set.newer) {
      result_.newer.push_back(set.problem);
      return;
    }
    if (!set.sealed()) {
      where_.add_set(set.id, result_.damage.size());
      add(set.id, set.problem_file, set.problem);
      return;
    }
    const Seal& seal = set.seal;
    if (set.exchanged) {
      add(set.id, kSealFile,
          "the set sealed before it is another than the one that was there: sets were exchanged");
    }
    bool based_on_readable = !seal.based_on || readable_.contains(*seal.based_on);
    bool ledger_sound = check_ledgers(set);
    if (ledger_sound && based_on_readable) readable_.insert(set.id);
    std::vector<std::size_t> damaged_parts;  // places in result_.damage
    for (std::size_t i = 0; i < seal.parts.size(); ++i) {
      const PartInfo& part = seal.parts[i];
      if (auto disk = open_.away_disk(seal, part)) {
        ++result_.away[*disk];
        unseen_.insert(set.id);
        keep_known_damage(set.id, part.name);
        continue;
      }
      ++result_.parts;
      if (check_file(set, part.name, part.bytes, part.digest)) continue;
      damaged_parts.push_back(result_.damage.size() - 1);
      where_.add_part(seal, i, result_.damage.size() - 1);
    }
    check_blocks(set);
    if (seal.based_on && unseen_.contains(*seal.based_on)) unseen_.insert(set.id);
    if (request_.contents && ledger_sound) check_contents(set, damaged_parts);
  }

  // What was found damaged on a disk that is not plugged in now is damaged still.
  void keep_known_damage(SetId set, const std::string& file) {
    if (!open_.state) return;
    for (const KnownDamage& known : open_.state->record.damage) {
      if (known.set == set && known.file == file) unseen_damage_.push_back(known);
    }
  }

  // One copy makes the other good again.
  bool check_ledgers(const ShelfSet& set) {
    const Seal& seal = set.seal;
    std::string damaged, sound;
    for (const std::string& name : {seal.ledger_name, seal.ledger_copy}) {
      bool as_written = check_file(set, name, seal.ledger_bytes, seal.ledger_digest);
      (as_written ? sound : damaged) = name;
    }
    if (damaged.empty()) return true;
    if (sound.empty()) return false;
    if (!open_.read_only.empty()) return true;  // not ours to mend
    try {
      result_.mended.push_back(mend_ledger(*open_.place, set, damaged));
      result_.damage.back().mended = true;
      result_.damage.back().reason += "; mended from " + sound;
    } catch (const Error& error) {
      if (error.kind() == ErrorKind::kPlace) throw;
    }
    return true;
  }

  // It holds nothing of the user's, and can be worked out from what it tells of.
  void check_blocks(const ShelfSet& set) {
    const Seal& seal = set.seal;
    bool sound = check_file(set, kBlocksFile, seal.blocks_bytes, seal.blocks_digest);
    if (sound || !open_.read_only.empty()) return;
    try {
      auto mended = mend_blocks(*open_.place, set);
      if (!mended) return;
      result_.mended.push_back(*mended);
      result_.damage.back().mended = true;
      result_.damage.back().reason += "; worked out anew";
    } catch (const Error& error) {
      if (error.kind() == ErrorKind::kPlace) throw;
    }
  }

  bool check_file(const ShelfSet& set, const std::string& name, std::uint64_t bytes,
                  const Digest& digest) {
    stop_if_asked();
    Progress progress{"verifying"};
    progress.bytes_done = result_.bytes;
    progress.bytes_total = all_bytes_;
    progress.current = set.id.to_string() + " " + name;
    progress.current_total = bytes;
    auto each_block = [&] {
      observer_.progress(progress);
      progress.bytes_done = std::min(result_.bytes, progress.bytes_done + kDigestBlock);
      progress.current_done = std::min(bytes, progress.current_done + kDigestBlock);
      return request_.stop && request_.stop();
    };
    try {
      if (!open_.place->exists(set.folder + "/" + name)) {
        add(set.id, name, "it is missing");
        return false;
      }
      // From the disk: what the page cache holds says nothing of what lies there.
      auto file = open_.place->open(set.folder + "/" + name, true);
      if (file->size() != bytes) {
        add(set.id, name,
            "it has " + std::to_string(file->size()) + " bytes, not " + std::to_string(bytes));
        return false;
      }
      result_.bytes += bytes;
      std::string blocks = block_digests_of(*file, each_block);
      if (digest_of_blocks(blocks) == digest) return true;
      auto written = blocks_of(*open_.place, set, name);
      add(set.id, name,
          "its content is not what was written" + (written && written->size() > sizeof(Digest)
                                                       ? ": " + where_it_differs(*written, blocks)
                                                       : ""));
    } catch (const Error& error) {
      if (error.kind() == ErrorKind::kPlace) throw;
      add(set.id, name, error.message());
    }
    return false;
  }

  // Every file whose content lies in this set, and the files of later sets that refer to it.
  void check_contents(const ShelfSet& set, const std::vector<std::size_t>& damaged_parts) {
    try {
      LedgerReader ledger = open_ledger(shelf_, set, identities_);
      LedgerEntry line;
      Progress progress{"reading " + set.id.to_string()};
      while (ledger.next(line)) {
        if (line.entry.type != EntryType::kFile) continue;
        stop_if_asked();
        ContentLocation location = location_by(line, set.id);
        auto known = where_.damage_of_content(location);
        bool read_here = !line.in_set && !line.in_path;  // also what is put together here
        if (read_here) {
          ++result_.files;
          progress.files_done = result_.files;
          progress.current = "/" + line.entry.path;
          observer_.progress(progress);
          if (!is_at_hand(open_, location, line.entry.size)) continue;
          try {
            reader_.read(location, line.entry.size, *line.digest, [](std::uint64_t, ByteView) {});
          } catch (const Error& error) {
            if (error.kind() == ErrorKind::kPlace || error.kind() == ErrorKind::kStopped) throw;
            std::size_t where = blame(set, location, damaged_parts, error);
            where_.add_content(location, where);
            result_.damage[where].paths.push_back("/" + line.entry.path);
          }
        } else if (known) {
          result_.damage[*known].paths.push_back("/" + line.entry.path);
        }
      }
      where_.read_all_of(set.id);
    } catch (const Error& error) {
      bool no_key = error.kind() == ErrorKind::kPassphrase && identities_.empty();
      if (error.kind() == ErrorKind::kPlace || error.kind() == ErrorKind::kStopped || no_key) throw;
      if (error.newer()) {
        result_.newer.push_back(error.message());
        return;
      }
      add(set.id, set.seal.ledger_name, error.message()).no_key =
          error.kind() == ErrorKind::kPassphrase;
      readable_.erase(set.id);
    }
  }

  // The damage, by its place in result_.damage, that keeps a content from being read: one that is
  // known, or a new one of the part where it was met.
  std::size_t blame(const ShelfSet& set, const ContentLocation& location,
                    const std::vector<std::size_t>& damaged_parts, const Error& error) {
    const ShelfSet* holder = &set;
    std::uint64_t at = location.tar_offset;
    if (!location.ranges.empty()) {
      if (auto damage = where_.damage_of(location, 0)) return *damage;
      if (auto failed = reader_.failed_at()) {
        const ShelfSet* there = failed->set ? shelf_.find(*failed->set) : nullptr;
        if (there != nullptr && there->sealed()) holder = there;
        at = failed->entry + failed->offset;
      }
    } else if (auto known = damage_of_part(set.seal, at, damaged_parts)) {
      return *known;
    }
    add(holder->id, part_at(holder->seal, at)->name, error.message());
    return result_.damage.size() - 1;
  }

  // Of the damaged parts, by their places in result_.damage, the first from there on: a long file
  // may begin in a sound part and end in a damaged one.
  std::optional<std::size_t> damage_of_part(const Seal& seal, std::uint64_t tar_offset,
                                            const std::vector<std::size_t>& damaged_parts) const {
    for (auto part = part_at(seal, tar_offset); part != seal.parts.end(); ++part) {
      for (std::size_t where : damaged_parts) {
        if (result_.damage[where].file == part->name) return where;
      }
    }
    return std::nullopt;
  }

  // ---- What it means

  // What this machine knows of the sets, or what the ledgers say where they can be opened.
  std::unique_ptr<Index> find_index() {
    try {
      if (open_.state && path_exists(open_.state->index_path())) {
        auto own = std::make_unique<Index>(open_.state->index_path());
        if (index_matches(shelf_, *own)) {
          result_.known_here = knows_lost_ledgers(*own);
          return own;
        }
      }
      if (shelf_.label().recipient && identities_.empty()) return nullptr;
      auto index = std::make_unique<Index>("");
      update_index(shelf_, *index, identities_, observer_);
      return index;
    } catch (const Error& error) {
      if (error.kind() == ErrorKind::kPlace || error.kind() == ErrorKind::kStopped) throw;
      return nullptr;
    }
  }

  // Whether an index took in every set whose ledgers are both damaged.
  bool knows_lost_ledgers(Index& index) const {
    return std::all_of(result_.damage.begin(), result_.damage.end(), [&](const Damage& damage) {
      const ShelfSet* set = damage.set ? shelf_.find(*damage.set) : nullptr;
      bool of_a_ledger =
          set != nullptr && set->sealed() && !damage.mended &&
          (damage.file == set->seal.ledger_name || damage.file == set->seal.ledger_copy);
      return !of_a_ledger || index_holds(index, *set);
    });
  }

  // Which files are lost at which restore points, and which points can be restored.
  void work_out_losses() {
    const std::set<SetId>& damaged = where_.sets();
    std::unique_ptr<Index> index = result_.damage.empty() ? nullptr : find_index();
    if (index && !damaged.empty()) {
      DamagedBy lookup = [&](const ContentLocation& location, std::uint64_t size) {
        return where_.damage_of(location, size);
      };
      Losses losses = find_losses(*index, {damaged.begin(), damaged.end()}, lookup);
      for (const auto& [id, files] : losses.at) {
        const ShelfSet* set = shelf_.find(id);
        if (set != nullptr && set->sealed()) result_.lost_at[id] = files;
      }
      for (auto& [damage, lost] : losses.by_damage) {
        for (const Loss& loss : lost) result_.damage[damage].paths.push_back(loss.path);
        result_.damage[damage].losses = std::move(lost);
      }
    }
    for (Damage& damage : result_.damage) {
      std::sort(damage.paths.begin(), damage.paths.end());
      damage.paths.erase(std::unique(damage.paths.begin(), damage.paths.end()), damage.paths.end());
    }
    std::set<SetId> leaning;  // on a damaged part, all of it, where nothing better is known
    for (SetId id : checked_) {
      const ShelfSet* set = shelf_.find(id);
      bool base_damaged =
          set->sealed() && set->seal.based_on && leaning.contains(*set->seal.based_on);
      if (damaged.contains(id) || base_damaged) leaning.insert(id);
      if (!readable_.contains(id) || unseen_.contains(id)) continue;
      bool known = index && index->has(id);
      if (known ? !result_.lost_at.contains(id) : !leaning.contains(id)) {
        result_.restorable.push_back(id);
      }
    }
  }

  void remember() {
    bool copy = request_.by_folder && open_.state &&
                open_.path != open_.state->record.place + "/" + open_.state->record.folder;
    if (copy) return;
    std::vector<KnownDamage> found = unseen_damage_;
    for (const Damage& damage : result_.damage) {
      const ShelfSet* set = damage.set ? shelf_.find(*damage.set) : nullptr;
      if (set == nullptr || damage.no_key || damage.mended) continue;
      // What a seal says of others is no damage of its own; that it cannot be read is.
      bool of_the_seal = damage.file.starts_with(kSealFile);
      if (of_the_seal ? !set->unreadable || damage.file != set->problem_file : !set->sealed()) {
        continue;
      }
      found.push_back({*damage.set, damage.file, damage.reason, calendar_now(), {}});
    }
    remember_damage(open_, checked_, found);
    if (request_.only || !open_.state || !result_.away.empty()) return;
    VerifyRecord verified{calendar_now(), result_.parts, result_.damage.size(), request_.contents};
    open_.state->update_record([&](ShelfRecord& record) { record.verified = verified; });
  }

  OpenShelf& open_;
  const Shelf& shelf_;
  std::span<const Identity> identities_;
  const VerifyRequest& request_;
  Observer& observer_;
  ContentReader reader_;
  std::vector<SetId> checked_;
  std::vector<KnownDamage> unseen_damage_;
  std::set<SetId> unseen_;    // parts of them, or of what they are based on, are away
  std::set<SetId> readable_;  // sealed, and the ledgers of the whole chain are sound
  DamageMap where_;           // by place in result_.damage
  VerifyResult result_;
  std::uint64_t all_bytes_ = 0;  // to be read, but for contents
};

}  // namespace

VerifyResult verify_shelf(OpenShelf& open, std::span<const Identity> identities,
                          const VerifyRequest& request, Observer& observer) {
  try {
    return Verify(open, identities, request, observer).run();
  } catch (const Error& error) {
    throw named_if_lost(open, error);
  }
}

}  // namespace kestrum
