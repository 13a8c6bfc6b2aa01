// Turning a pending set into versions.
#include "kestrum/base/error.h"
#include "kestrum/base/uuid.h"
#include "kestrum/machine/index.h"
#include "kestrum/machine/index_rows.h"

namespace kestrum {
namespace {

const std::string kGoneType = std::to_string(static_cast<int>(EntryType::kGone)),
                  kOnlyHere = std::to_string(kIndexOnlyFlag);

// What a version says of its path; and, of one that begins, the same by the journal's row `j`.
constexpr const char* kStateColumns =
    "type, size, mtime, ctime, inode, mode, owner, digest, extra, flags, link_group, content";
const std::string kNewVersion =
    "j.type, j.size, j.mtime, j.ctime, j.inode, j.mode, j.owner, j.digest, j.extra, j.flags & " +
    std::to_string(kKeptFlags) + ", j.link_group, content_key(j.size, j.digest)";
// Of its place in the set ?1, all but the version; and which rows have one.
constexpr const char* kPlace =
    "coalesce(j.in_set, ?1), coalesce(j.tar_offset, 0),"
    " CASE WHEN j.in_key IS NOT NULL AND j.in_key <> j.key"
    "   THEN (SELECT h.id FROM path h WHERE h.key = j.in_key) END, j.ranges";
constexpr const char* kWithPlace =
    " WHERE j.type = 0 AND (j.tar_offset IS NOT NULL OR j.ranges IS NOT NULL)";

// Where there are more new versions than old ones, what they are found by costs less when all are
// there than row by row.
class ContentIndexLater {
 public:
  ContentIndexLater(SQLite::Database& database, bool later) : database_(database), later_(later) {
    if (later_) database_.exec("DROP INDEX version_content");
  }
  void make() {
    if (later_) database_.exec(kContentIndex);
  }

 private:
  SQLite::Database& database_;
  bool later_;
};

}  // namespace

// ---- Pending

// A set is pending from when its file is there, and names the journal as it is, until the journal
// was taken in, in one transaction with its mark.
void Index::journal_done() {
  write_batch();
  database_->exec("DELETE FROM journal_mark");
  auto& s = statement("INSERT INTO journal_mark VALUES(?)");
  s.bind(1, make_uuid());
  s.exec();
  reset_statements();
  if (!transaction_) return;
  transaction_->commit();
  transaction_.reset();
}

std::string Index::journal_mark() {
  auto& s = statement("SELECT mark FROM journal_mark");
  return s.executeStep() ? s.getColumn(0).getString() : "";
}

void Index::prepare_pending(SetId set, SetKind kind, std::optional<SetId> based_on) {
  try {
    transaction_ = std::make_unique<SQLite::Transaction>(*database_);
    stage(set, kind, based_on);
  } catch (const SQLite::Exception&) {
    roll_back();  // such as a disk that is full: it is tried again when the set is there
  }
}

void Index::set_pending(const IndexedSet& set) {
  std::string mark = journal_mark();
  if (mark.empty()) {
    journal_done();
    mark = journal_mark();
  }
  reset_statements();
  pending_.write({set, mark});
}

std::optional<IndexedSet> Index::pending() {
  auto pending = pending_.read();
  if (!pending || pending->journal.empty() || pending->journal != journal_mark()) return {};
  return std::move(pending->set);
}

void Index::apply_pending(const Digest& seal_digest) {
  auto set = pending();
  if (!set) throw Error(ErrorKind::kFailed, "the index has no set to take over");
  set->seal_digest = seal_digest;
  if (staged_ && staged_->set != set->set) roll_back();
  if (!staged_) {
    reset_statements();
    transaction_ = std::make_unique<SQLite::Transaction>(*database_);
  }
  try {
    take_in(*set);
  } catch (...) {
    roll_back();
    throw;
  }
  pending_.drop();
}

void Index::drop_pending() {
  roll_back();
  database_->exec("DELETE FROM journal_mark");
  pending_.drop();
}

// ---- Taking in

void Index::take_in(const IndexedSet& set) {
  if (!staged_) stage(set.set, set.kind, set.based_on);
  if (staged_->lines != set.lines) {
    throw Error(ErrorKind::kDamage, "the index: the journal of " + set.set.to_string() +
                                        " does not have the lines of its ledger");
  }
  add_set(set);
  database_->exec(kForgetJournal);
  database_->exec("DELETE FROM journal_mark; DELETE FROM touched");
  database_->exec(kForgetBegun);
  reset_statements();
  transaction_->commit();
  transaction_.reset();
  staged_.reset();
}

// All that a set changes, but for its own row. Nothing of it counts before that is there: it is one
// transaction.
void Index::stage(SetId set, SetKind kind, std::optional<SetId> based_on) {
  JournalSums journal = sum_up_journal();
  auto before = newest();
  reset_statements();
  bool any_before = database_->execAndGet("SELECT EXISTS (SELECT 1 FROM version)").getInt() != 0;
  staged_ = {set, static_cast<std::uint64_t>(journal.lines)};  // also where it breaks off
  std::int64_t sequence = set.sequence();
  database_->exec("DELETE FROM touched");
  if (!add_all_new(journal, sequence)) {
    find_touched(journal);
    apply_journal(sequence);
  }
  apply_stretches(sequence);
  if (!any_before) return;
  if (kind == SetKind::kFull) {
    auto& close = statement(
        "UPDATE version SET until = ?1, ended = NULL WHERE until IS NULL AND first < ?1"
        " AND path NOT IN (SELECT path FROM touched)");
    close.bind(1, sequence);
    close.exec();
  } else if (before && based_on != before->set) {
    revert_untouched(sequence, based_on->sequence());
  }
}

Index::JournalSums Index::sum_up_journal() {
  JournalSums sums;
  if (journal_keyed_) {
    SQLite::Statement s(*database_, "SELECT type, flags, in_key IS NOT NULL FROM journal");
    while (s.executeStep()) {
      sums.add(s.getColumn(0).getInt(), s.getColumn(1).getInt64(), s.getColumn(2).getInt() != 0);
    }
    return sums;
  }
  each_packed([&](const JournalRow& row) {
    sums.add(row.type, static_cast<std::int64_t>(row.flags), row.has_in_key());
    return true;
  });
  const char* first = "SELECT coalesce(min(first), 0) FROM journal_batch";
  sums.first = database_->execAndGet(first).getInt64();
  sums.last = next_row_ - 1;
  return sums;
}

void Index::JournalSums::add(int type, std::int64_t flags, bool refers) {
  bool gone = type >= static_cast<int>(EntryType::kGone);
  bool index_only = (flags & kIndexOnlyFlag) != 0;
  ++rows;
  lines += index_only ? 0 : 1;
  others += refers ? 1 : 0;
  only_here += index_only && !gone ? 1 : 0;
  removed += gone ? 1 : 0;
}

// Where every path is new, as in the first set of all, and got its number in the journal's order,
// nothing has to be looked up: row by row, path, version and place follow each other. False, with
// nothing but paths added, where that is not so.
bool Index::add_all_new(const JournalSums& journal, std::int64_t sequence) {
  const std::string from = std::string(" FROM ") + journal_table() + " j";
  auto count = [&](const char* sql) { return database_->execAndGet(sql).getInt64(); };
  std::int64_t paths = count("SELECT coalesce(max(id), 0) FROM path");
  std::int64_t added = database_->exec("INSERT OR IGNORE INTO path(key) SELECT key" + from +
                                       " ORDER BY " + (journal_keyed_ ? "key" : "id"));
  if (journal.others > 0) {
    database_->exec("INSERT OR IGNORE INTO path(key) SELECT in_key" + from +
                    " WHERE in_key IS NOT NULL");
  }
  bool in_a_row = !journal_keyed_ && journal.rows > 0 && added == journal.rows &&
                  journal.last - journal.first + 1 == journal.rows;
  if (!in_a_row || journal.only_here > 0 || journal.removed > 0) return false;
  std::int64_t to_path = paths + 1 - journal.first;
  for (std::int64_t row : {journal.first, journal.last}) {
    SQLite::Statement at(*database_, "SELECT 1" + from +
                                         " JOIN path p ON p.key = j.key WHERE j.id = ?1"
                                         " AND p.id = ?1 + ?2");
    at.bind(1, row);
    at.bind(2, to_path);
    if (!at.executeStep()) return false;
  }
  std::int64_t versions = count("SELECT coalesce(max(id), 0) FROM version");
  auto step = [&](const std::string& sql) {
    SQLite::Statement s(*database_, sql);
    s.bind(1, sequence);
    s.bind(2, versions + 1 - journal.first);
    if (s.getBindParameterCount() > 2) s.bind(3, to_path);
    s.exec();
  };
  ContentIndexLater content(*database_, journal.rows > versions);
  step("INSERT INTO version(id, path, first, " + std::string(kStateColumns) +
       ") SELECT j.id + ?2, j.id + ?3, ?1, " + kNewVersion + from + " ORDER BY j.id");
  step(
      "INSERT INTO location(version, set_sequence, tar_offset, holder, ranges) SELECT j.id + ?2, " +
      std::string(kPlace) + from + kWithPlace + " ORDER BY j.id");
  content.make();
  return true;
}

// Which paths the journal has a line for, the version that each has now, and whether it stays.
void Index::find_touched(const JournalSums& journal) {
  const std::string told = std::to_string(kToldFlags), table = journal_table();
  // `same`: all that a ledger tells agrees, which leaves out ctime and inode.
  database_->exec(
      "INSERT INTO touched SELECT p.id, v.id, v.id IS NOT NULL AND v.type = j.type"
      " AND v.size = j.size AND v.mtime = j.mtime AND v.mode = j.mode AND v.owner = j.owner"
      " AND v.digest IS j.digest AND v.extra IS j.extra AND v.link_group = j.link_group"
      " AND (v.flags & " +
      told + ") = (j.flags & " + told + "), j.id FROM " + table +
      " j CROSS JOIN path p ON p.key = j.key"
      " LEFT JOIN version v ON v.path = p.id AND v.until IS NULL");
  // What only the index was to learn about a state that is not the current one any more: the path
  // counts as one without a line.
  if (journal.only_here == 0) return;
  database_->exec("DELETE FROM touched WHERE NOT same AND row IN (SELECT id FROM " + table +
                  " WHERE type < " + kGoneType + " AND (flags & " + kOnlyHere + ") <> 0)");
}

// Set by set rather than row by row: a full set of a million files has a million of them.
void Index::apply_journal(std::int64_t sequence) {
  auto step = [&](const std::string& sql, bool binds_sequence = false) {
    SQLite::Statement s(*database_, sql);
    if (binds_sequence) s.bind(1, sequence);
    s.exec();
  };
  auto holds = [&](const char* sql) { return database_->execAndGet(sql).getInt() != 0; };
  const std::string gone = kGoneType, unsure = std::to_string(kUnsureFlag),
                    row = std::string(" CROSS JOIN ") + journal_table() + " j ON j.id = ",
                    touched = " FROM touched t" + row + "t.row";
  // Closed: what is gone or left out, and what another version takes the place of.
  step("UPDATE version SET until = ?1, ended = CASE WHEN j.type >= " + gone + " THEN j.type END" +
           touched + " WHERE version.id = t.version AND t.version IS NOT NULL AND NOT t.same",
       true);
  step(
      "UPDATE version SET ctime = j.ctime, inode = j.inode,"
      " flags = (version.flags & ~" +
      unsure + ") | (j.flags & " + unsure + ")" + touched +
      " WHERE version.id = t.version AND t.version IS NOT NULL AND t.same"
      " AND (version.ctime <> j.ctime OR version.inode <> j.inode"
      "      OR (version.flags & " +
      unsure + ") <> (j.flags & " + unsure + "))");
  ContentIndexLater content(*database_, holds("SELECT (SELECT count(*) FROM touched WHERE NOT same)"
                                              " > (SELECT coalesce(max(id), 0) FROM version)"));
  step("INSERT INTO version(path, first, " + std::string(kStateColumns) + ") SELECT t.path, ?1, " +
           kNewVersion + touched + " WHERE NOT t.same AND j.type < " + gone + " ORDER BY t.path",
       true);
  content.make();
  // Each stays where its version is; those are known, and the new ones are found by their paths:
  // few one by one; where they are many, all versions are read in order.
  const std::string places =
      "INSERT OR REPLACE INTO location(version, set_sequence, tar_offset, holder, ranges)"
      " SELECT v, " +
      std::string(kPlace) + " FROM ";
  step(places + "(SELECT version AS v, row FROM touched WHERE same)" + row + "row" + kWithPlace +
           " ORDER BY v",
       true);
  bool few = holds(
      "SELECT 8 * (SELECT count(*) FROM touched WHERE NOT same) <"
      " (SELECT coalesce(max(id), 0) FROM version)");
  step(places + "(SELECT n.id AS v, t.row AS row FROM touched t " + (few ? "CROSS " : "") +
           "JOIN version n ON n.path = t.path AND n.until IS NULL WHERE NOT t.same)" + row + "row" +
           kWithPlace + " ORDER BY v",
       true);
}

// Paths without a line are at this set what they were at its base, whatever sets in between said.
void Index::revert_untouched(std::int64_t sequence, std::int64_t base) {
  auto& close = statement(
      "UPDATE version SET until = ?1 WHERE until IS NULL AND first > ?2 AND first < ?1"
      " AND path NOT IN (SELECT path FROM touched)");
  close.bind(1, sequence);
  close.bind(2, base);
  close.exec();
  SQLite::Statement back(
      *database_,
      "SELECT id, path FROM version WHERE first <= ?1 AND until > ?1 AND until <= ?2"
      " AND path NOT IN (SELECT path FROM touched)");
  back.bind(1, base);
  back.bind(2, sequence);
  std::vector<std::pair<std::int64_t, std::int64_t>> rows;
  while (back.executeStep()) {
    rows.emplace_back(back.getColumn(0).getInt64(), back.getColumn(1).getInt64());
  }
  for (const auto& [id, path] : rows) {
    static const std::string kCopy = std::string("INSERT INTO version(path, first, ") +
                                     kStateColumns + ") SELECT path, ?, " + kStateColumns +
                                     " FROM version WHERE id = ?";
    auto& copy = statement(kCopy.c_str());
    copy.bind(1, sequence);
    copy.bind(2, id);
    copy.exec();
    std::int64_t added = database_->getLastInsertRowid();
    auto& locations = statement(
        "INSERT INTO location(version, set_sequence, tar_offset, holder, ranges)"
        " SELECT ?, set_sequence, tar_offset, holder, ranges FROM location WHERE version = ?");
    locations.bind(1, added);
    locations.bind(2, id);
    locations.exec();
  }
}

}  // namespace kestrum
