#include "kestrum/machine/noise_count.h"

#include <algorithm>
#include <map>
#include <unordered_map>

#include "kestrum/base/file.h"
#include "kestrum/machine/index_rows.h"
#include "kestrum/select/path_order.h"

namespace kestrum {
namespace {

// So many per set, as the changes from one set to the next.
class PerSet {
 public:
  // From the set at `begin` up to, not including, the one at `end`.
  void add(std::size_t begin, std::size_t end) {
    if (begin >= end) return;
    ++changes_[begin];
    --changes_[end];
  }
  bool empty() const { return changes_.empty(); }
  std::vector<std::uint64_t> sums(std::size_t sets) const {
    std::vector<std::uint64_t> sums(sets);
    auto change = changes_.begin();
    std::int64_t sum = 0;
    for (std::size_t at = 0; at < sets; ++at) {
      if (change != changes_.end() && change->first == at) sum += (change++)->second;
      sums[at] = static_cast<std::uint64_t>(sum);
    }
    return sums;
  }

 private:
  std::map<std::size_t, std::int64_t> changes_;
};

// The sets that are looked at, in order; columns of a row of "version" become places among them.
class Span {
 public:
  Span(const std::vector<IndexedSet>& sets, std::optional<SetId> since) {
    for (const IndexedSet& set : sets) {
      if (!since || set.set >= *since) ids_.push_back(set.set);
    }
  }
  std::size_t size() const { return ids_.size(); }
  SetId id(std::size_t at) const { return ids_[at]; }
  std::int64_t oldest() const { return ids_.front().sequence(); }
  std::size_t begin(const SQLite::Column& first) const { return place(first.getInt64()); }
  std::size_t end(const SQLite::Column& until) const {
    return until.isNull() ? ids_.size() : place(until.getInt64());
  }

 private:
  std::size_t place(std::int64_t sequence) const {
    auto at =
        std::lower_bound(ids_.begin(), ids_.end(), sequence,
                         [](SetId id, std::int64_t wanted) { return id.sequence() < wanted; });
    return static_cast<std::size_t>(at - ids_.begin());
  }
  std::vector<SetId> ids_;
};

// Files that were not there at a set and are noise now; files that were there, were not noise, and
// are gone now.
struct NoisyFolder {
  PerSet newcomers, gone;
};

const std::string kNoisy = "(v.flags & " + std::to_string(kNoiseFlag) + ") <> 0";
const std::string kPlainFile = "v.type = 0 AND NOT " + kNoisy;
const std::string kGone = std::to_string(static_cast<int>(EntryType::kGone));
// Of a path p: what it was from the oldest set on.
const std::string kSinceOldest =
    " JOIN version v ON v.path = p.id AND (v.until IS NULL OR v.until > ?1)";
const std::string kAtBase = "v.first <= ?2 AND (v.until IS NULL OR v.until > ?2)";

// One count, from the oldest set of `span` on. `table` has a row for each path that is not what it
// was at the base: key, type, flags.
class NoiseSums {
 public:
  NoiseSums(SQLite::Database& database, Span span, const std::string& table, SetId base)
      : database_(database), span_(std::move(span)), table_(table), base_(base) {}

  std::vector<NoiseShare> shares() {
    take_noisy();
    if (!folders_.empty()) take_gone();
    std::vector<std::uint64_t> turned = turned_.sums(span_.size());
    for (const auto& [key, folder] : folders_) {
      if (folder.gone.empty()) continue;
      auto newcomers = folder.newcomers.sums(span_.size()), gone = folder.gone.sums(span_.size());
      for (std::size_t at = 0; at < turned.size(); ++at) {
        turned[at] += std::min(newcomers[at], gone[at]);
      }
    }
    std::vector<NoiseShare> shares;
    if (std::all_of(turned.begin(), turned.end(), [](auto sum) { return sum == 0; })) return shares;
    std::vector<std::uint64_t> files = plain_files();
    for (std::size_t at = 0; at < turned.size(); ++at) {
      if (turned[at] > 0) shares.push_back({span_.id(at), turned[at], files[at]});
    }
    return shares;
  }

 private:
  SQLite::Statement prepared(const std::string& sql) {
    SQLite::Statement s(database_, sql);
    s.bind(1, span_.oldest());
    if (sql.find("?2") != std::string::npos) s.bind(2, base_.sequence());
    return s;
  }
  // Looked up where there is an index by key; else all keys are read, once, if there is any to ask
  // for.
  std::string without_row() const { return "p.key NOT IN (SELECT key FROM " + table_ + ")"; }

  // What is noise now: by its row, or since the base and before. CROSS keeps the order of the
  // joins: from the few to what is known of them.
  void take_noisy() {
    const std::string columns = ", v.first, v.until, " + kPlainFile + " FROM ";
    take_noisy(prepared("SELECT j.key" + columns + table_ +
                        " j LEFT JOIN path p ON p.key = j.key LEFT" + kSinceOldest +
                        " WHERE j.type = 0 AND (j.flags & " + std::to_string(kNoiseFlag) +
                        ") <> 0 ORDER BY j.key, v.first"));
    take_noisy(prepared("SELECT p.key" + columns + "(SELECT v.path AS id FROM version v WHERE " +
                        kNoisy + " AND v.type = 0 AND v.first > ?1 AND " + kAtBase +
                        ") n CROSS JOIN path p ON p.id = n.id CROSS" + kSinceOldest + " WHERE " +
                        without_row() + " ORDER BY p.key, v.first"));
  }

  // Columns: the path, a stretch of its history, whether it was a plain file then.
  void take_noisy(SQLite::Statement s) {
    std::string key;
    std::size_t reached = 0;  // up to which set what was there is known
    auto absent_until = [&](std::size_t set) {
      if (reached < set) folders_[folder_above(path_from_key(key))].newcomers.add(reached, set);
    };
    while (s.executeStep()) {
      std::string at = column_blob(s, 0);
      if (at != key) {
        if (!key.empty()) absent_until(span_.size());
        key = std::move(at);
        reached = 0;
      }
      if (s.getColumn(1).isNull()) continue;
      std::size_t begin = span_.begin(s.getColumn(1)), end = span_.end(s.getColumn(2));
      absent_until(begin);
      reached = std::max(reached, end);
      if (s.getColumn(3).getInt() != 0) turned_.add(begin, end);
    }
    if (!key.empty()) absent_until(span_.size());
  }

  // What is gone now from the folders that have got a noisy file: by its row, or before.
  void take_gone() {
    const std::string columns = "SELECT p.key, v.first, v.until FROM ";
    take_gone(prepared(columns + table_ + " j CROSS JOIN path p ON p.key = j.key CROSS" +
                       kSinceOldest + " WHERE j.type = " + kGone + " AND " + kPlainFile));
    take_gone(prepared(columns + "(SELECT DISTINCT path AS id FROM version WHERE ended = " + kGone +
                       " AND until > ?1) g CROSS JOIN path p ON p.id = g.id CROSS" + kSinceOldest +
                       " WHERE " + kPlainFile + " AND " + without_row() +
                       " AND NOT EXISTS (SELECT 1 FROM version v WHERE v.path = p.id AND " +
                       kAtBase + ")"));
  }

  void take_gone(SQLite::Statement s) {
    while (s.executeStep()) {
      auto folder = folders_.find(folder_above(path_from_key(column_blob(s, 0))));
      if (folder == folders_.end()) continue;
      folder->second.gone.add(span_.begin(s.getColumn(1)), span_.end(s.getColumn(2)));
    }
  }

  // How many files each set holds that are not noise.
  std::vector<std::uint64_t> plain_files() {
    PerSet plain;
    SQLite::Statement s = prepared("SELECT v.first, v.until FROM version v WHERE " + kPlainFile +
                                   " AND (v.until IS NULL OR v.until > ?1)");
    while (s.executeStep()) plain.add(span_.begin(s.getColumn(0)), span_.end(s.getColumn(1)));
    return plain.sums(span_.size());
  }

  SQLite::Database& database_;
  Span span_;
  const std::string& table_;
  SetId base_;
  PerSet turned_;  // under their own names
  std::unordered_map<std::string, NoisyFolder> folders_;
};

}  // namespace

NoiseCount::NoiseCount(Index& index, Source source, std::optional<SetId> base)
    : index_(index),
      database_(index.database()),
      known_(index.sets()),
      asks_journal_(source == Source::kJournal),
      base_(base) {
  if (asks_journal_) return;
  database_.exec(
      "CREATE TEMP TABLE IF NOT EXISTS expected(key BLOB PRIMARY KEY, type INTEGER, flags INTEGER)"
      " WITHOUT ROWID; DELETE FROM temp.expected");
  expect_.emplace(database_, "INSERT OR REPLACE INTO temp.expected VALUES(?, ?, ?)");
}

void NoiseCount::expect(const std::string& path, EntryType type, bool noise) {
  bind_blob(*expect_, 1, path_key(path));
  expect_->bind(2, static_cast<int>(type));
  expect_->bind(3, noise ? kNoiseFlag : 0);
  expect_->exec();
  expect_->reset();
}

std::vector<NoiseShare> NoiseCount::shares(std::optional<SetId> since) {
  Span span(known_, since);
  if (span.size() == 0 || !base_) return {};
  const std::string noise = " WHERE (flags & " + std::to_string(kNoiseFlag) + ") <> 0";
  const std::string table = asks_journal_ ? index_.journal_table() : "temp.expected";
  int any = database_.execAndGet("SELECT EXISTS (SELECT 1 FROM version" + noise +
                                 ") OR EXISTS (SELECT 1 FROM " + table + noise + ")");
  if (any == 0) return {};
  return NoiseSums(database_, std::move(span), table, *base_).shares();
}

}  // namespace kestrum
