#include "kestrum/inspect/verify_some.h"

#include <algorithm>
#include <random>
#include <set>

#include "kestrum/access/known_damage.h"
#include "kestrum/archive/block_digests.h"
#include "kestrum/base/error.h"

namespace kestrum {
namespace {

constexpr Nanos kRememberEvery = 30 * kSecond;

struct FileOfSet : Seal::File {
  const ShelfSet* set;
};

// In the order in which a round reads them: of sets, and of names within one.
std::vector<FileOfSet> sealed_files(const Shelf& shelf) {
  std::vector<FileOfSet> files;
  for (const ShelfSet& set : shelf.sets()) {
    if (!set.sealed()) continue;
    std::size_t first = files.size();
    for (Seal::File& file : set.seal.files()) files.push_back({std::move(file), &set});
    std::sort(files.begin() + static_cast<std::ptrdiff_t>(first), files.end(),
              [](const FileOfSet& a, const FileOfSet& b) { return a.name < b.name; });
  }
  return files;
}

// Why it is not as it was written; empty if it is.
std::string why_not_as_written(Place& place, const FileOfSet& file,
                               const std::function<bool()>& each_block) {
  std::string path = file.set->folder + "/" + file.name;
  try {
    if (!place.exists(path)) return "it is missing";
    // From the disk: what the page cache holds says nothing of what lies there.
    auto source = place.open(path, true);
    if (source->size() != file.bytes) {
      return "it has " + std::to_string(source->size()) + " bytes, not " +
             std::to_string(file.bytes);
    }
    if (digest_of_blocks(block_digests_of(*source, each_block)) == file.digest) return "";
    return "its content is not what was written";
  } catch (const Error& error) {
    if (error.kind() == ErrorKind::kPlace || error.kind() == ErrorKind::kStopped) throw;
    return error.message();
  }
}

class Round {
 public:
  Round(OpenShelf& open, const VerifySomeRequest& request, Observer& observer)
      : open_(open), request_(request), observer_(observer), files_(sealed_files(open.shelf)) {
    for (const FileOfSet& file : files_) result_.all_bytes += file.bytes;
    budget_ =
        result_.all_bytes / 100 * request.percent + result_.all_bytes % 100 * request.percent / 100;
  }

  VerifySomeResult run() {
    if (request_.seed) {
      std::mt19937_64 random(*request_.seed);
      std::shuffle(files_.begin(), files_.end(), random);
      read_from(0);
      return finish();
    }
    round_ = open_.state ? open_.state->record.verify_round : VerifyRound{};
    if (!round_->set) round_->began = calendar_now();
    read_from(first_behind(*round_));
    // Sets that were pruned meanwhile need not be read; those that are new lie behind.
    result_.all_read = reached_ == files_.size() && !result_.stopped;
    remember_round(reached_);
    return finish();
  }

 private:
  std::size_t first_behind(const VerifyRound& round) const {
    if (!round.set) return 0;
    auto next = std::find_if(files_.begin(), files_.end(), [&](const FileOfSet& file) {
      return std::pair(file.set->id, file.name) > std::pair(*round.set, round.file);
    });
    return static_cast<std::size_t>(next - files_.begin());
  }

  void read_from(std::size_t first) {
    std::set<SetId> seen;
    for (reached_ = first; reached_ < files_.size(); ++reached_) {
      const FileOfSet& file = files_[reached_];
      bool enough = result_.bytes >= budget_ && reached_ > first;
      if (enough) return;
      if (request_.stop && request_.stop()) break;
      if (is_away(file)) {
        result_.lacks_disk = true;
        continue;
      }
      try {
        if (!read(file)) continue;  // its set was removed meanwhile
      } catch (const Error& error) {
        if (error.kind() != ErrorKind::kStopped) throw;
        break;
      }
      seen.insert(file.set->id);
      result_.sets = seen.size();
      result_.parts += file.is_part;
      result_.bytes += file.bytes;
      // A PC that is switched off each evening gets to the end as well.
      if (round_ && steady_now() - remembered_ > kRememberEvery) remember_round(reached_ + 1);
    }
    result_.stopped = reached_ < files_.size();
  }

  // On a disk of the shelf that is not plugged in.
  bool is_away(const FileOfSet& file) const {
    if (!file.is_part || !open_.earlier) return false;
    const std::vector<PartInfo>& parts = file.set->seal.parts;
    auto part = std::find_if(parts.begin(), parts.end(),
                             [&](const PartInfo& info) { return info.name == file.name; });
    return part != parts.end() && open_.away_disk(file.set->seal, *part).has_value();
  }

  bool read(const FileOfSet& file) {
    std::unique_ptr<PlaceHold> hold;
    try {
      hold = open_.shelf.hold(file.set->id);
    } catch (const Error& error) {
      if (error.kind() != ErrorKind::kNoMatch) throw;
      return false;
    }
    Progress progress{"verifying"};
    progress.bytes_done = result_.bytes;
    progress.bytes_total = budget_;
    progress.current = file.set->id.to_string() + " " + file.name;
    progress.current_total = file.bytes;
    std::string why = why_not_as_written(*open_.place, file, [&] {
      observer_.progress(progress);
      progress.bytes_done =
          std::min(result_.bytes + file.bytes, progress.bytes_done + kDigestBlock);
      progress.current_done = std::min(file.bytes, progress.current_done + kDigestBlock);
      return request_.stop && request_.stop();
    });
    if (!why.empty()) result_.damage.push_back({file.set->id, file.name, why, {}});
    return true;
  }

  // So many files, from the first on, are behind it.
  void remember_round(std::size_t reached) {
    remembered_ = steady_now();
    if (!open_.state) return;
    note_damage();                // before it counts as read
    VerifyRound round = *round_;  // as it stood when this time began
    if (reached > 0) {
      round.set = files_[reached - 1].set->id;
      round.file = files_[reached - 1].name;
    }
    round.parts += result_.parts;
    round.damaged += result_.damage.size();
    round.lacks_disk |= result_.lacks_disk;
    open_.state->update_record([&](ShelfRecord& record) {
      record.verify_round = round;
      if (!result_.all_read) return;
      // All that was there when the round began was read since.
      if (!round.lacks_disk) {
        record.verified = {round.began, round.parts, round.damaged, false};
      }
      record.verify_round = {};
    });
  }

  void note_damage() {
    std::vector<KnownDamage> found;
    for (const Damage& damage : result_.damage) {
      found.push_back({*damage.set, damage.file, damage.reason, calendar_now(), {}});
    }
    add_damage(open_, found);
  }

  VerifySomeResult finish() {
    note_damage();
    return std::move(result_);
  }

  OpenShelf& open_;
  const VerifySomeRequest& request_;
  Observer& observer_;
  std::vector<FileOfSet> files_;
  VerifySomeResult result_;
  std::uint64_t budget_ = 0;
  std::size_t reached_ = 0;           // the first file that was not read
  std::optional<VerifyRound> round_;  // nothing: of a sample
  Nanos remembered_ = steady_now();
};

}  // namespace

VerifySomeResult verify_some(OpenShelf& open, const VerifySomeRequest& request,
                             Observer& observer) {
  try {
    return Round(open, request, observer).run();
  } catch (const Error& error) {
    throw named_if_lost(open, error);
  }
}

}  // namespace kestrum
