// What a run that did not finish left, so that the next one goes on with it.
#include "kestrum/machine/index.h"
#include "kestrum/machine/index_rows.h"
#include "kestrum/select/path_order.h"

namespace kestrum {
namespace {

std::uint64_t column_size(SQLite::Statement& s, int at) {
  return static_cast<std::uint64_t>(s.getColumn(at).getInt64());
}

}  // namespace

void Index::journal_start(const BegunSet& set) {
  begin_journal();
  database_->exec(set.parts.empty() ? kForgetBegun : "DELETE FROM begun; DELETE FROM closed_part");
  remember_stretches();
  auto& s = statement("INSERT INTO begun VALUES(?, ?, ?, ?, ?)");
  s.bind(1, static_cast<int>(set.kind));
  if (set.based_on) s.bind(2, set.based_on->sequence());
  s.bind(3, set.folder);
  s.bind(4, static_cast<std::int64_t>(set.begun));
  s.bind(5, set.packing);
  s.exec();
  checkpoint(set.parts);
}

void Index::checkpoint(const std::vector<ClosedPart>& closed) {
  for (const ClosedPart& part : closed) {
    auto& s = statement(
        "INSERT INTO closed_part(name, bytes, tar_offset, tar_end, digest, cut_start, cut_end,"
        " cut_path, cut_head, so_far, size, inode, mtime, ctime, disk, blocks)"
        " VALUES(?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)");
    s.bind(1, part.info.name);
    s.bind(2, static_cast<std::int64_t>(part.info.bytes));
    s.bind(3, static_cast<std::int64_t>(part.info.tar_offset));
    s.bind(4, static_cast<std::int64_t>(part.tar_end));
    bind_blob(s, 5, as_text(part.info.digest));
    s.bind(6, static_cast<std::int64_t>(part.cut.start));
    s.bind(7, static_cast<std::int64_t>(part.cut.end));
    bind_blob(s, 8, part.cut.path);
    if (part.cut.head) bind_blob(s, 9, *part.cut.head);
    if (part.cut.file) {
      bind_blob(s, 10, as_text(part.cut.so_far));
      s.bind(11, static_cast<std::int64_t>(part.cut.file->size));
      s.bind(12, static_cast<std::int64_t>(part.cut.file->inode));
      bind_time(s, 13, part.cut.file->mtime);
      bind_time(s, 14, part.cut.file->ctime);
    }
    if (part.info.disk) s.bind(15, static_cast<std::int64_t>(*part.info.disk));
    if (!part.blocks.empty()) bind_blob(s, 16, part.blocks);
    s.exec();
    s.reset();
  }
  write_batch();
  transaction_->commit();
  transaction_ = std::make_unique<SQLite::Transaction>(*database_);
}

std::optional<BegunSet> Index::begun() {
  BegunSet set;
  {
    auto& s = statement("SELECT kind, base, folder, begun, packing FROM begun");
    if (!s.executeStep()) return std::nullopt;
    set.kind = static_cast<SetKind>(s.getColumn(0).getInt());
    if (!s.getColumn(1).isNull()) set.based_on = SetId::from_sequence(s.getColumn(1).getInt64());
    set.folder = s.getColumn(2).getString();
    set.begun = s.getColumn(3).getInt64();
    set.packing = s.getColumn(4).getString();
    s.reset();
  }
  auto& s = statement(
      "SELECT name, bytes, tar_offset, tar_end, digest, cut_start, cut_end, cut_path, cut_head,"
      " so_far, size, inode, mtime, ctime, disk, blocks FROM closed_part ORDER BY number");
  while (s.executeStep()) {
    ClosedPart part;
    part.info = {s.getColumn(0).getString(), column_size(s, 1), column_size(s, 2), {}};
    column_digest(s, 4, part.info.digest);
    part.tar_end = column_size(s, 3);
    part.cut.start = column_size(s, 5);
    part.cut.end = column_size(s, 6);
    part.cut.path = column_blob(s, 7);
    if (!s.getColumn(8).isNull()) {
      part.cut.head = std::make_shared<const std::string>(column_blob(s, 8));
    }
    if (!s.getColumn(9).isNull()) {
      column_digest(s, 9, part.cut.so_far);
      part.cut.file = std::make_shared<LargeFile>(LargeFile{part.cut.path, column_size(s, 10),
                                                            column_size(s, 11), column_time(s, 12),
                                                            column_time(s, 13)});
    }
    if (!s.getColumn(14).isNull()) part.info.disk = column_size(s, 14);
    part.blocks = column_blob(s, 15);
    set.parts.push_back(std::move(part));
  }
  return set;
}

void Index::drop_begun() {
  must_not_be_pending();
  reset_statements();
  SQLite::Transaction transaction(*database_);
  database_->exec(kForgetBegun);
  database_->exec(kForgetJournal);
  transaction.commit();
}

void Index::carry_over(std::uint64_t complete_until) {
  must_not_be_pending();
  reset_statements();
  SQLite::Transaction transaction(*database_);
  const std::string from = std::string(" FROM ") + journal_table(),
                    own = from +
                          " WHERE tar_offset < ?1 AND in_set IS NULL"
                          " AND in_key IS NULL AND (flags & ",
                    replaced = std::to_string(static_cast<int>(DeadEntry::Why::kReplaced));
  for (const std::string& sql :
       {std::string("DELETE FROM carried WHERE tar_offset >= ?1"),
        std::string("DELETE FROM journal_listed WHERE tar_offset >= ?1"),
        std::string("DELETE FROM journal_stretch WHERE tar_offset >= ?1"),
        std::string("DELETE FROM dead WHERE tar_offset >= ?1"),
        // None of them counts until a line says so again.
        "INSERT OR IGNORE INTO dead SELECT tar_offset, key, " + replaced + own +
            std::to_string(kIndexOnlyFlag) + ") = 0",
        "INSERT OR IGNORE INTO dead SELECT link_offset, key, " + replaced + from +
            " WHERE link_offset < ?1",
        // Only what has a tar entry of its own: the rest costs little to find out again.
        std::string("INSERT OR REPLACE INTO carried SELECT ") + kRowColumns + own +
            std::to_string(kIndexOnlyFlag | kUnsettledFlag) + ") = 0"}) {
    SQLite::Statement step(*database_, sql);
    step.bind(1, static_cast<std::int64_t>(complete_until));
    step.exec();
  }
  database_->exec(kForgetJournal);
  reset_statements();
  transaction.commit();
}

std::optional<IndexEntry> Index::carried(const std::string& path) {
  static const std::string kQuery =
      std::string("SELECT ") + kRowColumns + " FROM carried WHERE key = ?";
  return find_row(kQuery.c_str(), path);
}

void Index::drop_carried(const std::string& path) {
  auto& s = statement("DELETE FROM carried WHERE key = ?");
  bind_blob(s, 1, path_key(path));
  s.exec();
}

void Index::each_begun_folder(std::uint64_t complete_until,
                              const std::function<void(const std::string&)>& visit) {
  SQLite::Statement s(*database_,
                      std::string("SELECT key FROM (SELECT key, type, tar_offset FROM ") +
                          journal_table() +
                          " UNION ALL SELECT key, type, tar_offset FROM carried)"
                          " WHERE type = ? AND tar_offset < ? ORDER BY key");
  s.bind(1, static_cast<int>(EntryType::kFolder));
  s.bind(2, static_cast<std::int64_t>(complete_until));
  while (s.executeStep()) visit(path_from_key(column_blob(s, 0)));
}

void Index::journal_dead(const DeadEntry& dead) {
  auto& s = statement("INSERT OR REPLACE INTO dead VALUES(?, ?, ?)");
  s.bind(1, static_cast<std::int64_t>(dead.tar_offset));
  bind_blob(s, 2, path_key(dead.path));
  s.bind(3, static_cast<int>(dead.why));
  s.exec();
}

void Index::each_dead(const std::function<void(const DeadEntry&)>& visit) {
  SQLite::Statement s(
      *database_,
      std::string("SELECT tar_offset, key, why FROM dead WHERE why <> ?1"
                  " OR (tar_offset, key) NOT IN (SELECT coalesce(link_offset, tar_offset), key"
                  "   FROM ") +
          journal_table() +
          " WHERE in_set IS NULL AND (flags & ?2) = 0"
          "   AND (link_offset IS NOT NULL OR (tar_offset IS NOT NULL AND in_key IS NULL)))"
          " ORDER BY tar_offset");
  s.bind(1, static_cast<int>(DeadEntry::Why::kReplaced));
  s.bind(2, kIndexOnlyFlag);
  while (s.executeStep()) {
    visit({static_cast<std::uint64_t>(s.getColumn(0).getInt64()), path_from_key(column_blob(s, 1)),
           static_cast<DeadEntry::Why>(s.getColumn(2).getInt())});
  }
}

void Index::put_carried(const IndexEntry& entry) {
  static const std::string kInsert = insert_row("carried");
  put_row(kInsert.c_str(), path_key(entry.line.entry.path), entry);
}

}  // namespace kestrum
