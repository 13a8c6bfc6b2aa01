#include "kestrum/machine/packed_journal.h"

#include <sqlite3.h>

#include <memory>
#include <new>
#include <string>

#include "kestrum/machine/index_rows.h"
#include "kestrum/machine/journal_row.h"

namespace kestrum {
namespace {

struct PackedJournal : sqlite3_vtab {
  sqlite3* database = nullptr;
};

// Of the columns, in the order of kRowColumns behind the id.
enum PackedColumn {
  kIdColumn,
  kKeyColumn,
  kTypeColumn,
  kSizeColumn,
  kMtimeColumn,
  kCtimeColumn,
  kInodeColumn,
  kModeColumn,
  kOwnerColumn,
  kDigestColumn,
  kExtraColumn,
  kFlagsColumn,
  kLinkGroupColumn,
  kTarOffsetColumn,
  kInSetColumn,
  kInKeyColumn,
  kLinkOffsetColumn,
  kRangesColumn,
};

// Reads batch after batch, or the one that holds an id.
class PackedCursor : public sqlite3_vtab_cursor {
 public:
  explicit PackedCursor(sqlite3* database) : sqlite3_vtab_cursor{}, database_(database) {}
  ~PackedCursor() {
    sqlite3_finalize(all_);
    sqlite3_finalize(one_);
  }
  PackedCursor(const PackedCursor&) = delete;

  int rewind() {
    only_ = false;
    end_ = false;
    rest_ = {};
    if (int code = prepare(all_, "SELECT first, packed FROM main.journal_batch ORDER BY first")) {
      return code;
    }
    return next();
  }

  int seek(sqlite3_int64 id) {
    only_ = true;
    end_ = false;
    // Ids are mostly asked for in order.
    bool ahead = !batch_.empty() && id >= batch_first_ && id < batch_end_;
    if (!ahead) {
      if (int code = read_batch_of(id)) return code;
    } else if (id < id_) {
      rest_ = batch_;
      id_ = batch_first_ - 1;
    }
    end_ = id < batch_first_ || id >= batch_end_;
    while (!end_ && id_ < id) {
      if (int code = take_row()) return code;
    }
    return SQLITE_OK;
  }

  int next() {
    if (only_) {
      end_ = true;
      return SQLITE_OK;
    }
    while (rest_.empty()) {
      int code = sqlite3_step(all_);
      if (code == SQLITE_DONE) {
        end_ = true;
        return SQLITE_OK;
      }
      if (code != SQLITE_ROW) return code;
      id_ = sqlite3_column_int64(all_, 0) - 1;
      rest_ = blob(all_, 1);
      batch_.clear();
    }
    return take_row();
  }

  bool at_end() const { return end_; }
  sqlite3_int64 id() const { return id_; }

  int give(sqlite3_context* out, int column) {
    bool of_rest = column != kIdColumn && column != kKeyColumn && column != kTypeColumn &&
                   column != kFlagsColumn;
    if (of_rest && !whole_ && !unpack_rest(row_)) return SQLITE_CORRUPT_VTAB;
    whole_ |= of_rest;
    give_value(out, column);
    return SQLITE_OK;
  }

 private:
  void give_value(sqlite3_context* out, int column) const {
    switch (column) {
      case kIdColumn:
        return sqlite3_result_int64(out, id_);
      case kKeyColumn:
        return give_blob(out, row_.key);
      case kTypeColumn:
        return sqlite3_result_int(out, row_.type);
      case kSizeColumn:
        return give_number(out, row_.size);
      case kMtimeColumn:
        return give_time(out, row_.mtime);
      case kCtimeColumn:
        return give_time(out, row_.ctime);
      case kInodeColumn:
        return give_number(out, row_.inode);
      case kModeColumn:
        return give_number(out, row_.mode);
      case kOwnerColumn:
        return give_number(out, row_.owner);
      case kDigestColumn:
        return give_unless_empty(out, row_.digest);
      case kExtraColumn:
        return give_unless_empty(out, row_.extra);
      case kFlagsColumn:
        return give_number(out, row_.flags);
      case kLinkGroupColumn:
        return give_number(out, row_.link_group);
      case kTarOffsetColumn:
        return give_optional(out, row_.tar_offset);
      case kInSetColumn:
        return give_optional(out, row_.in_set);
      case kInKeyColumn:
        if (row_.in_key) give_blob(out, *row_.in_key);
        return;
      case kLinkOffsetColumn:
        return give_optional(out, row_.link_offset);
      case kRangesColumn:
        return give_unless_empty(out, row_.ranges);
      default:
        return;
    }
  }

  static std::string_view blob(sqlite3_stmt* statement, int column) {
    const void* bytes = sqlite3_column_blob(statement, column);
    return {static_cast<const char*>(bytes == nullptr ? "" : bytes),
            static_cast<std::size_t>(sqlite3_column_bytes(statement, column))};
  }

  // What gives nothing gives NULL.
  static void give_blob(sqlite3_context* out, std::string_view bytes) {
    sqlite3_result_blob64(out, bytes.data(), bytes.size(), SQLITE_TRANSIENT);
  }
  static void give_unless_empty(sqlite3_context* out, std::string_view bytes) {
    if (!bytes.empty()) give_blob(out, bytes);
  }
  static void give_number(sqlite3_context* out, std::uint64_t number) {
    sqlite3_result_int64(out, static_cast<sqlite3_int64>(number));
  }
  static void give_optional(sqlite3_context* out, std::optional<std::uint64_t> number) {
    if (number) give_number(out, *number);
  }
  static void give_time(sqlite3_context* out, FileTime time) {
    if (time.fits_nanos()) return sqlite3_result_int64(out, time.moment());
    give_blob(out, as_text(time_bytes(time)));
  }

  int prepare(sqlite3_stmt*& statement, const char* sql) {
    if (statement != nullptr) {
      sqlite3_reset(statement);
      return SQLITE_OK;
    }
    return sqlite3_prepare_v2(database_, sql, -1, &statement, nullptr);
  }

  int read_batch_of(sqlite3_int64 id) {
    const char* sql =
        "SELECT first, rows, packed FROM main.journal_batch WHERE first <= ?"
        " ORDER BY first DESC LIMIT 1";
    if (int code = prepare(one_, sql)) return code;
    sqlite3_bind_int64(one_, 1, id);
    batch_.clear();
    batch_first_ = batch_end_ = 0;
    int code = sqlite3_step(one_);
    if (code == SQLITE_ROW) {
      batch_first_ = sqlite3_column_int64(one_, 0);
      batch_end_ = batch_first_ + sqlite3_column_int64(one_, 1);
      batch_ = blob(one_, 2);
    }
    sqlite3_reset(one_);
    rest_ = batch_;
    id_ = batch_first_ - 1;
    return code == SQLITE_ROW || code == SQLITE_DONE ? SQLITE_OK : code;
  }

  int take_row() {
    if (!unpack_head(rest_, row_)) return SQLITE_CORRUPT_VTAB;
    whole_ = false;
    ++id_;
    return SQLITE_OK;
  }

  sqlite3* database_;
  sqlite3_stmt *all_ = nullptr, *one_ = nullptr;
  bool only_ = false, end_ = true;
  std::string batch_;  // that holds what was sought
  sqlite3_int64 batch_first_ = 0, batch_end_ = 0, id_ = 0;
  std::string_view rest_;  // of the batch that is read, behind the row
  JournalRow row_;
  bool whole_ = false;  // it is, not just its head
};

PackedCursor& cursor_of(sqlite3_vtab_cursor* cursor) {
  return *static_cast<PackedCursor*>(cursor);
}

int connect_table(sqlite3* database, void*, int, const char* const*, sqlite3_vtab** table, char**) {
  std::string declaration = std::string("CREATE TABLE packed(id, ") + kRowColumns + ")";
  if (int code = sqlite3_declare_vtab(database, declaration.c_str())) return code;
  auto* made = new (std::nothrow) PackedJournal{};
  if (made == nullptr) return SQLITE_NOMEM;
  made->database = database;
  *table = made;
  return SQLITE_OK;
}

int disconnect_table(sqlite3_vtab* table) {
  delete static_cast<PackedJournal*>(table);
  return SQLITE_OK;
}

// By id, or all in order.
int choose_plan(sqlite3_vtab*, sqlite3_index_info* info) {
  info->estimatedCost = 1e6;
  info->estimatedRows = 1'000'000;
  for (int i = 0; i < info->nConstraint; ++i) {
    const auto& constraint = info->aConstraint[i];
    bool by_id = constraint.usable != 0 && constraint.iColumn <= kIdColumn &&
                 constraint.op == SQLITE_INDEX_CONSTRAINT_EQ;
    if (!by_id || info->idxNum != 0) continue;
    info->idxNum = 1;
    info->aConstraintUsage[i].argvIndex = 1;
    info->aConstraintUsage[i].omit = 1;
    info->estimatedCost = 10;
    info->estimatedRows = 1;
    info->idxFlags = SQLITE_INDEX_SCAN_UNIQUE;
  }
  bool in_order =
      info->nOrderBy == 1 && info->aOrderBy[0].iColumn <= kIdColumn && info->aOrderBy[0].desc == 0;
  if (in_order) info->orderByConsumed = 1;
  return SQLITE_OK;
}

int open_cursor(sqlite3_vtab* table, sqlite3_vtab_cursor** cursor) {
  *cursor = new (std::nothrow) PackedCursor(static_cast<PackedJournal*>(table)->database);
  return *cursor == nullptr ? SQLITE_NOMEM : SQLITE_OK;
}

int close_cursor(sqlite3_vtab_cursor* cursor) {
  delete &cursor_of(cursor);
  return SQLITE_OK;
}

int find_rows(sqlite3_vtab_cursor* cursor, int by_id, const char*, int, sqlite3_value** values) {
  try {
    if (by_id == 0) return cursor_of(cursor).rewind();
    return cursor_of(cursor).seek(sqlite3_value_int64(values[0]));
  } catch (const std::bad_alloc&) {
    return SQLITE_NOMEM;
  }
}

int next_row(sqlite3_vtab_cursor* cursor) {
  return cursor_of(cursor).next();
}

int is_at_end(sqlite3_vtab_cursor* cursor) {
  return cursor_of(cursor).at_end() ? 1 : 0;
}

int give_column(sqlite3_vtab_cursor* cursor, sqlite3_context* out, int column) {
  return cursor_of(cursor).give(out, column);
}

int give_row_id(sqlite3_vtab_cursor* cursor, sqlite3_int64* id) {
  *id = cursor_of(cursor).id();
  return SQLITE_OK;
}

// Without a way to create or to write it: it is there by its name, and only to be read.
sqlite3_module make_module() {
  sqlite3_module module{};
  module.xConnect = connect_table;
  module.xDisconnect = disconnect_table;
  module.xBestIndex = choose_plan;
  module.xOpen = open_cursor;
  module.xClose = close_cursor;
  module.xFilter = find_rows;
  module.xNext = next_row;
  module.xEof = is_at_end;
  module.xColumn = give_column;
  module.xRowid = give_row_id;
  return module;
}

}  // namespace

void add_packed_journal(SQLite::Database& database) {
  static const sqlite3_module kModule = make_module();
  int code =
      sqlite3_create_module_v2(database.getHandle(), "packed_journal", &kModule, nullptr, nullptr);
  if (code != SQLITE_OK) throw SQLite::Exception(database.getHandle(), code);
}

}  // namespace kestrum
