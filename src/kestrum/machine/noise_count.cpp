#include "kestrum/machine/noise_count.h"

#include <algorithm>
#include <map>
#include <unordered_map>

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

// Keys hold zero bytes where paths hold slashes.
std::string folder_of(const std::string& key) {
  std::size_t slash = key.rfind('\0');
  return slash == std::string::npos ? "" : key.substr(0, slash);
}

// Files that were not there at a set and are noise now; files that were there, were not noise, and
// are gone now.
struct NoisyFolder {
  PerSet newcomers, gone;
};

}  // namespace

NoiseCount::NoiseCount(Index& index, Source source, std::optional<SetId> base)
    : database_(index.database()),
      known_(index.sets()),
      table_(source == Source::kJournal ? "main.journal" : "temp.expected"),
      base_(base) {
  if (source == Source::kJournal) return;
  database_.exec(
      "CREATE TEMP TABLE IF NOT EXISTS expected(key BLOB PRIMARY KEY, type INTEGER, flags INTEGER)"
      " WITHOUT ROWID; DELETE FROM temp.expected");
}

void NoiseCount::expect(const std::string& path, EntryType type, bool noise) {
  SQLite::Statement s(database_, "INSERT OR REPLACE INTO temp.expected VALUES(?, ?, ?)");
  bind_blob(s, 1, path_key(path));
  s.bind(2, static_cast<int>(type));
  s.bind(3, noise ? kNoiseFlag : 0);
  s.exec();
}

std::vector<NoiseShare> NoiseCount::shares(std::optional<SetId> since) {
  Span span(known_, since);
  if (span.size() == 0 || !base_) return {};
  PerSet turned;
  std::unordered_map<std::string, NoisyFolder> folders;  // that have got a noisy file
  const std::string noisy = "(v.flags & " + std::to_string(kNoiseFlag) + ") <> 0";
  const std::string at_base = "v.first <= ?2 AND (v.until IS NULL OR v.until > ?2)";
  const std::string plain_since =
      " JOIN version v ON v.path = p.id AND (v.until IS NULL OR v.until > ?1)";
  const std::string no_row = "NOT EXISTS (SELECT 1 FROM " + table_ + " j WHERE j.key = p.key)";
  auto prepared = [&](const std::string& sql) {
    SQLite::Statement s(database_, sql);
    s.bind(1, span.oldest());
    if (sql.find("?2") != std::string::npos) s.bind(2, base_->sequence());
    return s;
  };

  // What is noise now, and what was there at each set under the same path.
  auto take_noisy = [&](SQLite::Statement s) {
    std::string key;
    std::size_t reached = 0;  // up to which set what was there is known
    auto end_path = [&] {
      if (!key.empty() && reached < span.size()) {
        folders[folder_of(key)].newcomers.add(reached, span.size());
      }
    };
    while (s.executeStep()) {
      std::string at = column_blob(s, 0);
      if (at != key) {
        end_path();
        key = std::move(at);
        reached = 0;
      }
      if (s.getColumn(1).isNull()) continue;
      std::size_t begin = span.begin(s.getColumn(1)), end = span.end(s.getColumn(2));
      if (begin > reached) folders[folder_of(key)].newcomers.add(reached, begin);
      reached = std::max(reached, end);
      if (s.getColumn(3).getInt() != 0) turned.add(begin, end);
    }
    end_path();
  };
  const std::string columns = ", v.first, v.until, v.type = 0 AND NOT " + noisy + " FROM ";
  take_noisy(prepared("SELECT j.key" + columns + table_ +
                      " j LEFT JOIN path p ON p.key = j.key LEFT" + plain_since +
                      " WHERE j.type = 0 AND (j.flags & " + std::to_string(kNoiseFlag) +
                      ") <> 0 ORDER BY j.key, v.first"));
  take_noisy(prepared("SELECT p.key" + columns + "(SELECT v.path AS id FROM version v WHERE " +
                      noisy + " AND v.type = 0 AND v.first > ?1 AND " + at_base +
                      ") n JOIN path p ON p.id = n.id" + plain_since + " WHERE " + no_row +
                      " ORDER BY p.key, v.first"));

  // What is gone now from the folders that have got a noisy file.
  auto take_gone = [&](SQLite::Statement s) {
    while (s.executeStep()) {
      auto folder = folders.find(folder_of(column_blob(s, 0)));
      if (folder == folders.end()) continue;
      folder->second.gone.add(span.begin(s.getColumn(1)), span.end(s.getColumn(2)));
    }
  };
  if (!folders.empty()) {
    const std::string gone = std::to_string(static_cast<int>(EntryType::kGone));
    const std::string was_plain = " v.type = 0 AND NOT " + noisy;
    take_gone(prepared("SELECT p.key, v.first, v.until FROM " + table_ +
                       " j JOIN path p ON p.key = j.key" + plain_since + " WHERE j.type = " + gone +
                       " AND" + was_plain));
    take_gone(prepared(
        "SELECT p.key, v.first, v.until FROM (SELECT DISTINCT path AS id FROM version"
        " WHERE ended = " +
        gone + " AND until > ?1) g JOIN path p ON p.id = g.id" + plain_since + " WHERE" +
        was_plain + " AND " + no_row +
        " AND NOT EXISTS (SELECT 1 FROM version v WHERE v.path = p.id AND " + at_base + ")"));
  }

  std::vector<std::uint64_t> sums = turned.sums(span.size());
  for (const auto& [key, folder] : folders) {
    if (folder.gone.empty()) continue;
    auto newcomers = folder.newcomers.sums(span.size()), gone = folder.gone.sums(span.size());
    for (std::size_t at = 0; at < sums.size(); ++at) sums[at] += std::min(newcomers[at], gone[at]);
  }
  std::vector<NoiseShare> shares;
  if (std::all_of(sums.begin(), sums.end(), [](auto sum) { return sum == 0; })) return shares;
  PerSet plain;
  SQLite::Statement all =
      prepared("SELECT v.first, v.until FROM version v WHERE v.type = 0 AND NOT " + noisy +
               " AND (v.until IS NULL OR v.until > ?1)");
  while (all.executeStep()) plain.add(span.begin(all.getColumn(0)), span.end(all.getColumn(1)));
  std::vector<std::uint64_t> files = plain.sums(span.size());
  for (std::size_t at = 0; at < sums.size(); ++at) {
    if (sums[at] > 0) shares.push_back({span.id(at), sums[at], files[at]});
  }
  return shares;
}

}  // namespace kestrum
