// The packed rows of the journal as a table that SQL can read.
#pragma once

#include <SQLiteCpp/SQLiteCpp.h>

namespace kestrum {

// Adds the table `packed_journal` to a connection: the rows of all of `journal_batch`, with the
// columns of `journal`, in order of their ids. It is read in that order, or by id. Source: "The
// Virtual Table Mechanism Of SQLite", sqlite.org/vtab.html. Throws SQLite::Exception.
void add_packed_journal(SQLite::Database& database);

}  // namespace kestrum
