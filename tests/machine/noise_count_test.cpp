// What turned into noise, over many sets: the queries against a model that knows every state.
#include "kestrum/machine/noise_count.h"

#include <gtest/gtest.h>

#include <map>
#include <random>
#include <set>

namespace kestrum {
namespace {

using State = std::map<std::string, bool>;  // noise or not, by path

class CountsNoise : public testing::TestWithParam<unsigned> {
 protected:
  IndexEntry row(const std::string& path, EntryType type, bool is_noise) {
    IndexEntry entry;
    entry.line.entry.path = path;
    entry.line.entry.type = type;
    if (type != EntryType::kFile) return entry;
    std::string content = is_noise ? "noise" : "plain text";
    entry.line.entry.size = content.size();
    entry.line.digest = digest_of(as_bytes(content));
    entry.line.tar_offset = 0;
    entry.line.noise = is_noise;
    return entry;
  }

  // The journal of a set that turns `base` into `now_`.
  void journal(SetId id, SetKind kind, const State& base) {
    index_.journal_start();
    lines_ = 0;
    for (const auto& [path, is_noise] : now_) {
      auto was = base.find(path);
      bool same = was != base.end() && was->second == is_noise;
      if (absent_.contains(path) || (same && kind != SetKind::kFull)) continue;
      index_.journal_put(row(path, EntryType::kFile, is_noise));
      ++lines_;
    }
    for (const auto& [path, is_noise] : base) {
      if (now_.contains(path)) continue;
      IndexEntry entry = row(path, EntryType::kGone, false);
      entry.index_only = kind == SetKind::kFull;
      lines_ += !entry.index_only;
      index_.journal_put(entry);
      removed_[path].insert(id);
    }
  }

  // Whether it was seen to be gone, at a set behind `oldest` or now.
  bool is_gone(const std::string& path, SetId oldest) {
    auto at = removed_.find(path);
    return !now_.contains(path) && at != removed_.end() && oldest < *at->second.rbegin();
  }

  void seal(SetId id, SetKind kind, std::optional<SetId> based_on) {
    index_.set_pending({id, kind, based_on, 0, {}, std::vector<Lacking>{}, {}, {}, lines_});
    index_.apply_pending({});
    State held = now_;
    if (kind == SetKind::kFull) {
      for (const std::string& path : absent_) held.erase(path);
    }
    states_[id] = now_ = held;
  }

  std::map<SetId, std::pair<std::uint64_t, std::uint64_t>> by_the_model(
      std::optional<SetId> since) {
    std::map<SetId, std::pair<std::uint64_t, std::uint64_t>> shares;
    if (states_.empty()) return shares;
    SetId oldest = since.value_or(states_.begin()->first);
    for (const auto& [id, state] : states_) {
      if (since && id < *since) continue;
      std::uint64_t turned = 0, files = 0;
      std::map<std::string, std::uint64_t> newcomers, left;
      for (const auto& [path, was_noise] : state) {
        files += !was_noise;
        auto now = now_.find(path);
        if (was_noise) continue;
        if (now == now_.end()) {
          left[path.substr(0, path.find('/'))] += is_gone(path, oldest);
        } else {
          turned += now->second;
        }
      }
      for (const auto& [path, is_noise] : now_) {
        newcomers[path.substr(0, path.find('/'))] += is_noise && !state.contains(path);
      }
      for (const auto& [folder, count] : newcomers) turned += std::min(count, left[folder]);
      if (turned > 0) shares[id] = {turned, files};
    }
    return shares;
  }

  Index index_{":memory:"};
  std::map<SetId, State> states_;
  State now_;
  std::map<std::string, std::set<SetId>> removed_;
  std::set<std::string> absent_;  // cannot be looked at now
  std::uint64_t lines_ = 0;
};

TEST_P(CountsNoise, AsAModelDoesThatKnowsEveryState) {
  std::mt19937 random(GetParam());
  SetId id{1, 0};
  std::uint64_t seen = 0;
  for (int round = 0; round < 40; ++round) {
    absent_.clear();
    const State base = now_;
    bool full = round == 0 || random() % 8 == 0;
    if (full && round > 0) id = {id.chain + 1, 0};
    if (!full) ++id.link;
    for (int file = 0; file < 24; ++file) {
      std::string path =
          std::string(1, static_cast<char>('a' + file % 3)) + "/" + std::to_string(file);
      switch (random() % 12) {
        case 0:
          now_.erase(path);
          break;
        case 1:
          now_[path] = true;
          break;
        case 2:
        case 3:
          now_[path] = false;
          break;
        default:
          break;
      }
      if (full && base.contains(path) && random() % 10 == 0) {
        now_[path] = base.at(path);
        absent_.insert(path);
      }
    }
    std::optional<SetId> compared;
    if (!states_.empty()) compared = states_.rbegin()->first;
    SetKind kind = full ? SetKind::kFull : SetKind::kIncremental;
    journal(id, kind, base);
    std::optional<SetId> since;
    if (!states_.empty() && random() % 3 == 0) {
      auto from = states_.begin();
      std::advance(from, random() % states_.size());
      since = from->first;
    }
    auto expected = by_the_model(since);
    std::map<SetId, std::pair<std::uint64_t, std::uint64_t>> counted;
    NoiseCount count(index_, NoiseCount::Source::kJournal, compared);
    for (const NoiseShare& share : count.shares(since)) {
      counted[share.set] = {share.turned, share.files};
    }
    EXPECT_EQ(counted, expected) << "round " << round;
    seen += expected.size();
    seal(id, kind, full ? std::nullopt : compared);
    if (random() % 6 == 0 && states_.size() > 3) {  // pruned
      index_.forget({states_.begin()->first});
      index_.sweep();
      states_.erase(states_.begin());
    }
  }
  EXPECT_GT(seen, 100U);
}

INSTANTIATE_TEST_SUITE_P(Seeds, CountsNoise, testing::Range(1U, 9U));

TEST(NoiseCounts, ExpectationsLikeAJournal) {
  Index index(":memory:");
  index.journal_start();
  for (int i = 0; i < 4; ++i) {
    IndexEntry entry;
    entry.line.entry.path = "d/" + std::to_string(i);
    entry.line.digest = digest_of({});
    entry.line.tar_offset = 0;
    index.journal_put(entry);
  }
  index.set_pending({{1, 0}, SetKind::kFull, {}, 0, {}, std::vector<Lacking>{}, {}, {}, 4});
  index.apply_pending({});
  NoiseCount count(index, NoiseCount::Source::kExpected, SetId{1, 0});
  EXPECT_TRUE(count.shares({}).empty());
  count.expect("d/0", EntryType::kFile, true);
  count.expect("d/1", EntryType::kGone, false);
  count.expect("d/1.locked", EntryType::kFile, true);
  count.expect("elsewhere/2.locked", EntryType::kFile, true);
  ASSERT_EQ(count.shares({}).size(), 1U);
  EXPECT_EQ(count.shares({})[0].turned, 2U);
  EXPECT_EQ(count.shares({})[0].files, 4U);
  EXPECT_TRUE(count.shares(SetId{1, 1}).empty()) << "counted from a later set on";
}

}  // namespace
}  // namespace kestrum
