#include "kestrum/machine/index_compare.h"

#include <algorithm>

#include "kestrum/base/text.h"
#include "kestrum/machine/index_rows.h"
#include "kestrum/select/path_order.h"

namespace kestrum {
namespace {

constexpr std::size_t kMostTold = 20;

// One row a stretch of a path's history, from the first to the last set that both know; other sets,
// which may be pruned, do not part stretches.
std::string states_of(const std::string& schema) {
  return "SELECT * FROM (SELECT p.key AS key,"
         " (SELECT min(sequence) FROM temp.both WHERE sequence >= v.first) AS begins,"
         " (SELECT min(sequence) FROM temp.both WHERE sequence >= v.until) AS ends,"
         " v.type, v.size, v.mtime, v.mode, o.uid, o.gid, o.user, o.grp, v.digest,"
         " coalesce(v.extra, x'') AS extra, v.flags & " +
         std::to_string(kToldFlags) + " AS flags, v.link_group FROM " + schema +
         ".version v JOIN " + schema + ".path p ON p.id = v.path JOIN " + schema +
         ".owner o ON o.id = v.owner) WHERE begins IS NOT NULL AND (ends IS NULL OR begins < ends)";
}

// What lies in the tar of a set, and where.
std::string contents_of(const std::string& schema) {
  return "SELECT l.set_sequence, l.tar_offset, l.ranges, v.size, v.digest FROM " + schema +
         ".location l JOIN " + schema +
         ".version v ON v.id = l.version WHERE l.set_sequence IN temp.both";
}

}  // namespace

class IndexComparison {
 public:
  IndexComparison(Index& index, const std::string& fresh_path) : database_(index.database()) {
    SQLite::Statement attach(database_, "ATTACH ? AS fresh");
    attach.bind(1, fresh_path);
    attach.exec();
    database_.exec(
        "CREATE TEMP TABLE both AS SELECT sequence FROM main.sets WHERE sequence IN"
        " (SELECT sequence FROM fresh.sets);"
        "CREATE UNIQUE INDEX temp.both_by ON both(sequence)");
  }
  ~IndexComparison() {
    try {
      database_.exec("DROP TABLE temp.both");
      database_.exec("DETACH fresh");
    } catch (const SQLite::Exception&) {
      // They go with the connection.
    }
  }
  IndexComparison(const IndexComparison&) = delete;
  IndexComparison& operator=(const IndexComparison&) = delete;

  std::vector<std::string> run() {
    compare_sets();
    const std::string own = states_of("main"), fresh = states_of("fresh");
    SQLite::Statement differing(database_, "SELECT key FROM (" + own + " EXCEPT " + fresh +
                                               ") UNION SELECT key FROM (" + fresh + " EXCEPT " +
                                               own + ")");
    while (differences_.size() < kMostTold && differing.executeStep()) {
      std::string key = column_blob(differing, 0);
      if (stretches(own, key) != stretches(fresh, key)) {
        differences_.push_back("/" + printable(path_from_key(key)) + ": another history");
      }
    }
    SQLite::Statement contents(database_, "SELECT set_sequence FROM (" + contents_of("main") +
                                              " EXCEPT " + contents_of("fresh") + ") LIMIT 1");
    if (contents.executeStep()) {
      SetId set = SetId::from_sequence(contents.getColumn(0).getInt64());
      differences_.push_back(set.to_string() + ": content where its ledger has other content");
    }
    compare_stretches("main", "fresh");
    compare_stretches("fresh", "main");
    return std::move(differences_);
  }

 private:
  // Lists that only one has.
  void compare_stretches(const std::string& one, const std::string& other) {
    using TableColumns = std::pair<std::string, std::string>;
    for (const auto& [table, columns] : {TableColumns("stretch", "tar_offset, start, at, list"),
                                         TableColumns("anchor", "tar_offset, start, digest")}) {
      auto rows = [&, table = table, columns = columns](const std::string& schema) {
        return " SELECT set_sequence, " + columns + " FROM " + schema + "." + table +
               " WHERE set_sequence IN temp.both";
      };
      SQLite::Statement s(database_, rows(one) + " EXCEPT" + rows(other) + " LIMIT 1");
      if (!s.executeStep()) continue;
      SetId set = SetId::from_sequence(s.getColumn(0).getInt64());
      differences_.push_back(set.to_string() + ": other stretches of a large file");
    }
  }

  void compare_sets() {
    SQLite::Statement s(database_,
                        "SELECT m.sequence FROM main.sets m JOIN fresh.sets f"
                        " ON f.sequence = m.sequence WHERE m.kind <> f.kind OR m.base IS NOT f.base"
                        " OR m.roots <> f.roots OR m.lacking IS NOT f.lacking"
                        " OR m.ledger <> f.ledger OR m.lines <> f.lines");
    while (s.executeStep()) {
      SetId set = SetId::from_sequence(s.getColumn(0).getInt64());
      differences_.push_back(set.to_string() + ": what is known of the set as a whole");
    }
  }

  struct Stretch {
    std::string begins, ends, state;
    bool operator==(const Stretch&) const = default;
  };

  // The stretches of a path, in order, those that follow each other without a change as one.
  std::vector<Stretch> stretches(const std::string& states, const std::string& key) {
    SQLite::Statement s(database_, "SELECT * FROM (" + states + ") WHERE key = ? ORDER BY begins");
    bind_blob(s, 1, key);
    std::vector<Stretch> list;
    while (s.executeStep()) {
      Stretch next{column_blob(s, 1), column_blob(s, 2), ""};
      for (int column = 3; column < s.getColumnCount(); ++column) {
        std::string value = column_blob(s, column);
        next.state += std::to_string(value.size()) + ':' + value;
      }
      bool follows = !list.empty() && list.back().ends == next.begins;
      if (follows && list.back().state == next.state) {
        list.back().ends = next.ends;
      } else {
        list.push_back(std::move(next));
      }
    }
    return list;
  }

  SQLite::Database& database_;
  std::vector<std::string> differences_;
};

std::vector<std::string> compare_indexes(Index& index, const std::string& fresh_path) {
  return IndexComparison(index, fresh_path).run();
}

}  // namespace kestrum
