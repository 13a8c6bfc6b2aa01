// Turning a pending set into versions.
#include "kestrum/base/error.h"
#include "kestrum/machine/index.h"
#include "kestrum/machine/index_rows.h"

namespace kestrum {
namespace {

const std::string kGoneType = std::to_string(static_cast<int>(EntryType::kGone)),
                  kOnlyHere = std::to_string(kIndexOnlyFlag);

}  // namespace

void Index::journal_done() {
  reset_statements();
  if (!transaction_) return;
  transaction_->commit();
  transaction_.reset();
}

void Index::prepare_pending() {
  transaction_ = std::make_unique<SQLite::Transaction>(*database_);
  find_touched();
  touched_found_ = true;
}

// Which paths the journal has a line for, the version that each has now, and whether it stays.
void Index::find_touched() {
  const std::string told = std::to_string(kToldFlags);
  database_->exec("DELETE FROM touched");
  database_->exec(std::string("INSERT OR IGNORE INTO path(key) SELECT key FROM journal ORDER BY ") +
                  (journal_keyed_ ? "key" : "id"));
  database_->exec(
      "INSERT OR IGNORE INTO path(key) SELECT in_key FROM journal WHERE in_key IS NOT NULL");
  // `same`: all that a ledger tells agrees, which leaves out ctime and inode.
  database_->exec(
      "INSERT INTO touched SELECT p.id, v.id, v.id IS NOT NULL AND v.type = j.type"
      " AND v.size = j.size AND v.mtime = j.mtime AND v.mode = j.mode AND v.owner = j.owner"
      " AND v.digest IS j.digest AND v.extra IS j.extra AND v.link_group = j.link_group"
      " AND (v.flags & " +
      told + ") = (j.flags & " + told +
      "), j.id"
      " FROM journal j CROSS JOIN path p ON p.key = j.key"
      " LEFT JOIN version v ON v.path = p.id AND v.until IS NULL");
  // What only the index was to learn about a state that is not the current one any more: the path
  // counts as one without a line.
  database_->exec(
      "DELETE FROM touched WHERE NOT same AND row IN (SELECT id FROM journal WHERE type < " +
      kGoneType + " AND (flags & " + kOnlyHere + ") <> 0)");
}

// Set by set rather than row by row: a full set of a million files has a million of them.
void Index::apply_journal(std::int64_t sequence) {
  auto step = [&](const std::string& sql, bool binds_sequence = false) {
    SQLite::Statement s(*database_, sql);
    if (binds_sequence) s.bind(1, sequence);
    s.exec();
  };
  const std::string gone = kGoneType, unsure = std::to_string(kUnsureFlag),
                    kept = std::to_string(kKeptFlags);
  // Closed: what is gone or left out, and what another version takes the place of.
  step("UPDATE version SET until = ?1, ended = CASE WHEN j.type >= " + gone +
           " THEN j.type END"
           " FROM touched t CROSS JOIN journal j ON j.id = t.row WHERE version.id = t.version"
           " AND t.version IS NOT NULL AND NOT t.same",
       true);
  step(
      "UPDATE version SET ctime = j.ctime, inode = j.inode,"
      " flags = (version.flags & ~" +
      unsure + ") | (j.flags & " + unsure +
      ")"
      " FROM touched t CROSS JOIN journal j ON j.id = t.row WHERE version.id = t.version AND "
      "t.version IS NOT NULL AND t.same"
      " AND (version.ctime <> j.ctime OR version.inode <> j.inode"
      "      OR (version.flags & " +
      unsure + ") <> (j.flags & " + unsure + "))");
  bool in_bulk = database_
                     ->execAndGet(
                         "SELECT (SELECT count(*) FROM touched WHERE NOT same) >"
                         " (SELECT coalesce(max(id), 0) FROM version)")
                     .getInt() != 0;
  if (in_bulk) database_->exec("DROP INDEX version_content");
  step(
      "INSERT INTO version(path, first, type, size, mtime, ctime, inode, mode, owner, digest, "
      "extra,"
      " flags, link_group) SELECT t.path, ?1, j.type, j.size, j.mtime, j.ctime, j.inode, j.mode,"
      " j.owner, j.digest, j.extra, j.flags & " +
          kept +
          ", j.link_group FROM touched t CROSS JOIN journal j ON j.id = t.row WHERE NOT t.same AND "
          "j.type < " +
          gone + " ORDER BY t.path",
      true);
  if (in_bulk) database_->exec(kContentIndex);
  // Each stays where its version is; those are known, and the new ones are found by their paths:
  // few one by one; where they are many, all versions are read in order.
  const std::string places =
      "INSERT OR REPLACE INTO location(version, set_sequence, tar_offset, holder, ranges)"
      " SELECT v, coalesce(j.in_set, ?1), coalesce(j.tar_offset, 0),"
      " CASE WHEN j.in_key IS NOT NULL AND j.in_key <> j.key"
      "   THEN (SELECT h.id FROM path h WHERE h.key = j.in_key) END, j.ranges FROM ";
  const std::string with_content =
      " WHERE j.type = 0 AND (j.tar_offset IS NOT NULL OR j.ranges IS NOT NULL) ORDER BY v";
  step(places +
           "(SELECT version AS v, row FROM touched WHERE same) CROSS JOIN journal j ON j.id = row" +
           with_content,
       true);
  bool few = database_
                 ->execAndGet(
                     "SELECT 8 * (SELECT count(*) FROM touched WHERE NOT same) <"
                     " (SELECT coalesce(max(id), 0) FROM version)")
                 .getInt() != 0;
  step(places + "(SELECT n.id AS v, t.row AS row FROM touched t " + (few ? "CROSS " : "") +
           "JOIN version n ON n.path = t.path AND n.until IS NULL WHERE NOT t.same)"
           " CROSS JOIN journal j ON j.id = row" +
           with_content,
       true);
  apply_stretches(sequence);
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
    auto& copy = statement(
        "INSERT INTO version(path, first, type, size, mtime, ctime, inode, mode, owner, digest,"
        " extra, flags, link_group) SELECT path, ?, type, size, mtime, ctime, inode, mode, owner,"
        " digest, extra, flags, link_group FROM version WHERE id = ?");
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

void Index::apply_pending(const Digest& seal_digest) {
  auto set = pending();
  if (!set) throw Error(ErrorKind::kFailed, "the index has no set to take over");
  auto& count = statement("SELECT count(*) FROM journal WHERE (flags & ?) = 0");
  count.bind(1, kIndexOnlyFlag);
  count.executeStep();
  if (static_cast<std::uint64_t>(count.getColumn(0).getInt64()) != set->lines) {
    throw Error(ErrorKind::kDamage, "the index: the journal of " + set->set.to_string() +
                                        " does not have the lines of its ledger");
  }
  auto before = newest();
  std::int64_t sequence = set->set.sequence();
  reset_statements();
  SQLite::Transaction transaction(*database_);
  if (!touched_found_) find_touched();
  touched_found_ = false;
  apply_journal(sequence);
  if (set->kind == SetKind::kFull) {
    auto& close = statement(
        "UPDATE version SET until = ?1, ended = NULL WHERE until IS NULL AND first < ?1"
        " AND path NOT IN (SELECT path FROM touched)");
    close.bind(1, sequence);
    close.exec();
  } else if (before && set->based_on != before->set) {
    revert_untouched(sequence, set->based_on->sequence());
  }
  auto& current = statement("UPDATE sets SET pending = 0, seal = ? WHERE sequence = ?");
  bind_blob(current, 1, as_text(seal_digest));
  current.bind(2, sequence);
  current.exec();
  current.reset();
  database_->exec("DELETE FROM journal; DELETE FROM touched");
  database_->exec(kForgetBegun);
  transaction.commit();
}

}  // namespace kestrum
