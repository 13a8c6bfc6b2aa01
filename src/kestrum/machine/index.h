// What this machine knows of a shelf's sets: every version of every path and where its content
// lies. A cache: it can be rebuilt from the ledgers at any time.
//
//   path(id, key)                    key: the path with '/' mapped to 0x00, so that memcmp is path
//                                    order and a subtree is one range
//   version(path, first, until, ...) one row as long as nothing changes, across full sets; it holds
//                                    from set `first` up to but not including set `until`; its
//                                    content is found by one number (machine/content_key)
//   location(version, set, ...)      the tar entries that hold the content, or its ranges
//   stretch(set, tar_offset, ...)    the stretches of large content in a tar entry, in lists
//   anchor(digest, set, ...)         the first few of each entry and one in 16, to be found by
//   journal_batch(first, packed)     the entries of the set being written, or pending: packed, in
//                                    path order, many to a row; SQL reads them as packed_journal
//   journal(id, key, ...)            the same in rows, with an index by key: all of them, once one
//                                    comes out of order or something asks for a path
//   dead(tar_offset, key, why)       tar entries of the set being written that do not count
//   journal_listed, journal_stretch those of it whose content is listed, and the lists
//   journal_mark(mark)               names the journal once it is whole
//   begun, closed_part, carried      what a run that did not finish left: its set, the parts that
//                                    last, the entries that lie whole in them
//
// Sets are numbered by SetId::sequence().
#pragma once

#include <SQLiteCpp/SQLiteCpp.h>

#include <functional>
#include <map>
#include <memory>
#include <optional>
#include <string>
#include <string_view>
#include <unordered_map>
#include <vector>

#include "kestrum/archive/set_writer.h"
#include "kestrum/base/error.h"
#include "kestrum/machine/content_table.h"
#include "kestrum/machine/index_entry.h"
#include "kestrum/machine/journal_row.h"
#include "kestrum/machine/pending_set.h"

namespace kestrum {

// Used by one thread at a time; other processes that open the same file wait for its transactions.
class Index {
 public:
  // Opens or creates; a file that is no database, or a broken one, is replaced by an empty one, and
  // so is what an earlier version left. Throws Error(kBusy) while another process has it,
  // Error(kFailed) for the index of a later version, and what SQLite says is wrong otherwise: none
  // of it is a reason to remove anything. ":memory:" is allowed.
  explicit Index(const std::string& path);
  ~Index();

  // Another connection, which only reads, for another thread; nothing for ":memory:". It sees what
  // is committed.
  std::unique_ptr<Index> reader() const;

  // ---- Sets
  std::vector<IndexedSet> sets();  // in order, without the pending one
  std::optional<IndexedSet> newest();
  bool has(SetId set);
  std::optional<IndexedSet> find_set(SetId set);

  // ---- Writing a set: journal, then pending, then apply
  // While a set is pending, nothing drops its journal: what would, throws Error(kFailed).
  // Empties the journal and forgets what was begun. What follows until set_pending is one
  // transaction.
  void journal_start();
  void journal_put(const IndexEntry& entry);
  // An entry of this set with the same content; if `alike`, with the same metadata too. As far as a
  // fixed amount of memory remembers.
  std::optional<ContentLocation> journal_duplicate(const Entry& entry, const Digest& digest,
                                                   bool alike);
  std::optional<IndexEntry> journal_find(const std::string& path);
  void journal_drop(const std::string& path);
  // How many of the files gone turned up under another path.
  std::uint64_t journal_moves();
  // Whether it may hold content of this size (and, if given, this time), of more than kNotedAbove.
  bool journal_has_size(std::uint64_t size, std::optional<FileTime> mtime);
  // The first name of a file that has several, remembered for the time of one run. Nothing if it is
  // `name`, which is remembered then.
  std::optional<FirstName> first_link(std::uint64_t device, std::uint64_t inode,
                                      const FirstName& name);
  // A tar entry of this set that does not count.
  void journal_dead(const DeadEntry& dead);
  // Calls `visit` for them in order. What an interrupted run had stored counts as dead where no
  // line says that it lies there.
  void each_dead(const std::function<void(const DeadEntry&)>& visit);
  // Calls `visit` for the journal's rows in path order.
  void each_journal(const std::function<void(IndexEntry&)>& visit);
  // The journal is whole: commits it, so that a reader() sees it.
  void journal_done();
  // Does what can be done of apply_pending before the seal is there. After journal_done(), by
  // whatever thread, but by one at a time; it begins the transaction that apply_pending ends, and
  // roll_back() undoes. Whoever leaves it out only waits longer in the end.
  void prepare_pending(SetId set, SetKind kind, std::optional<SetId> based_on);
  void set_pending(const IndexedSet& set);  // seal_digest is not known yet; makes it last
  std::optional<IndexedSet> pending();
  // Pending becomes current, in one transaction. Throws Error(kDamage), and changes nothing, if the
  // journal does not have as many lines as its ledger.
  void apply_pending(const Digest& seal_digest);
  void drop_pending();
  // The journal becomes a set that is sealed, in the transaction that journal_start() began; throws
  // as apply_pending does.
  void take_in(const IndexedSet& set);
  void roll_back();  // to the last checkpoint, or to what was before journal_start

  // ---- A set that is written over several runs (index_begun.cpp)
  // Like journal_start, for a set that can be gone on with: what the parts of `set` hold whole was
  // carried over, and stays so.
  void journal_start(const BegunSet& set);
  // Makes the journal so far, and these parts, last.
  void checkpoint(const std::vector<ClosedPart>& closed);
  std::optional<BegunSet> begun();
  void drop_begun();
  // Of the entries journalled by the run that did not finish, keeps those that lie whole below the
  // offset `complete_until` of the stream.
  void carry_over(std::uint64_t complete_until);
  // An entry that the parts hold, as it was when it was stored.
  std::optional<IndexEntry> carried(const std::string& path);
  void put_carried(const IndexEntry& entry);
  void drop_carried(const std::string& path);
  // Calls `visit` with each folder that lies whole below the offset, in the parts and by what the
  // journal says.
  void each_begun_folder(std::uint64_t complete_until,
                         const std::function<void(const std::string&)>& visit);

  // ---- Stretches of large files (index_stretches.cpp)
  // A tar entry of this set whose content is listed, with the number in its name if it holds
  // stretches, and 0 if it is a file's own; and what it holds, in order.
  void journal_listed(std::uint64_t tar_offset, const std::string& path, std::uint64_t number);
  void journal_stretches(const StretchList& list);
  // Where an entry of stretches of this set holds this one.
  std::optional<ContentRange> journal_stretch(const Stretch& stretch);
  std::uint64_t next_stretch_number();
  // When all of the set is journalled: what no line refers to is dead, and not listed.
  void settle_stretches();
  bool journal_has_ranges();
  void each_journal_stretches(const std::function<void(const StretchList&)>& visit);
  // The list in the tar of `set`, or of the set that is being written, that has the content at
  // `from` of an entry; and the one behind a list, of the next entry if need be.
  std::optional<StretchList> stretches_at(std::optional<SetId> set, std::uint64_t tar_offset,
                                          std::uint64_t from);
  std::optional<StretchList> stretches_behind(SetId set, const StretchList& list);
  // Where `ancestors` hold this stretch, the first few, if it is one of those that are noted.
  std::vector<ContentRange> anchors(const Stretch& stretch,
                                    const std::vector<std::int64_t>& ancestors);
  // The ranges, from this place on, of a version that lies there, if the set that holds it has one.
  std::vector<ContentRange> ranges_from(const ContentRange& place);
  void each_stretches(SetId set, const std::function<void(const StretchList&)>& visit);

  void clear();  // forgets every set
  // Forgets sets that were removed from the shelf; what only they held goes with sweep(), which
  // takes a look at everything.
  void forget(const std::vector<SetId>& sets);
  void sweep();

  // ---- Reading
  // The entries at a restore point, in path order; `below` narrows to a path and what is under it.
  class Cursor {
   public:
    bool next(IndexEntry& entry);
    // Goes on behind everything below `path`, however much that is.
    void skip_below(const std::string& path);

   private:
    friend class Index;
    Cursor(Index& index, SetId set, const std::optional<std::string>& below);
    Index& index_;
    std::unique_ptr<SQLite::Statement> statement_;
  };
  Cursor state_at(SetId set, const std::optional<std::string>& below = std::nullopt);
  std::optional<IndexEntry> find(SetId set, const std::string& path);
  // The same for whoever knows the row of its version, which is found faster.
  std::optional<IndexEntry> find(SetId set, const std::string& path, std::int64_t version);

  // Whether a restore point knows anything but folders at `path` or below it; with `since`, only
  // what came after that set.
  bool knows_below(const std::string& path, SetId set, std::optional<SetId> since);
  // Whether a restore point knows anything below `path` that was seen on a disk mounted at a path
  // of so many components; 0 is asked for too.
  bool knows_on_disk(const std::string& path, SetId set, unsigned least, unsigned most);
  // Whether anything of any set was seen on another disk than that of "/".
  bool knows_disks();
  // Calls `visit` with what a restore point knows at `path` and below it; with `since`, only what
  // came after that set. Until it answers false.
  void each_known(const std::string& path, SetId set, std::optional<SetId> since,
                  const std::function<bool(const std::string& path, unsigned disk)>& visit);
  // Whether the newest set holds, under any path, a file that looks like this one: the same
  // content, by all that tells without reading it.
  bool holds_file(std::uint64_t inode, std::uint64_t size, FileTime mtime);

  // The group that names of this file have at a restore point, under whatever path; 0 if none has.
  std::uint64_t link_group_of(SetId set, std::uint64_t inode, std::uint64_t size, FileTime mtime);

  // Content in one of `ancestors` (sequences, sorted), where it does not lie in `damaged`.
  std::optional<ContentLocation> find_content(std::uint64_t size, const Digest& digest,
                                              const std::vector<std::int64_t>& ancestors,
                                              const DamagedContent& damaged = {});
  bool has_size(std::uint64_t size, std::optional<FileTime> mtime);
  // Where a version's content lies, in one of `ancestors`; of several, the newest.
  std::optional<ContentLocation> location_of(std::int64_t version,
                                             const std::vector<std::int64_t>& ancestors);
  // Every stretch of a path's history, oldest first.
  std::vector<PathVersion> history_of(const std::string& path);
  // Every version that appeared up to `newest`, of `folder` and below it ("": everything), in path
  // order and from the oldest to the newest.
  void each_version(const std::string& folder, SetId newest,
                    const std::function<void(const PathVersion&)>& visit);
  // Every path that any set held, in path order; `below` narrows to a path and what is under it.
  // Until `visit` is called again, the index may be asked anything.
  void each_path(const std::optional<std::string>& below,
                 const std::function<void(const std::string&)>& visit);
  // The first path, other than its own, under which the content of `version` appeared in the set
  // `at` (moved_to), or which was gone from `at` on (moved_from). Nothing if there is none.
  std::optional<std::string> moved_to(const PathVersion& version, SetId at);
  std::optional<std::string> moved_from(const PathVersion& version, SetId at);
  // Every version of whose content something lies in the tar of `set`, in path order, and where
  // it lies.
  void each_located(SetId set,
                    const std::function<void(const PathVersion&, const ContentLocation&)>& visit);
  // The first name, in path order, of the group of `entry` at a restore point, of those that lie in
  // `folder` and are the same but for the name.
  std::optional<std::string> first_of_group(SetId set, const IndexEntry& entry,
                                            const std::string& folder);
  // A version of some file, chosen by a random number; nothing if there is no file.
  std::optional<PathVersion> random_file(std::uint64_t random);
  // Works out every restore point anew from the ledgers and compares it with the index, row by row.
  // What differs, in words, the first twenty; nothing if the index is right. A ledger that cannot
  // be opened as the one that was taken in is a difference. Holds whole trees in memory: for tests,
  // the soak and doubts.
  using LedgerOpener = std::function<std::optional<LedgerReader>(const IndexedSet&)>;
  std::vector<std::string> check(const LedgerOpener& open_ledger);

 private:
  Index() = default;
  friend class ChosenEntries;
  friend class MissingEntries;
  friend class DifferingPaths;
  friend class NoiseCount;
  friend class IndexComparison;
  SQLite::Database& database() { return *database_; }
  void open(const std::string& path);
  void must_not_be_pending();
  void begin_journal();
  void need_journal_keys();
  void look_at_journal();
  void forget_batch();
  void write_batch();
  std::int64_t pack_entry(const IndexEntry& entry, const std::string& key,
                          const std::string& extra);
  void take_row(const JournalRow& row, IndexEntry& entry);
  // Calls `visit` with the heads of the packed rows, until it says false.
  void each_packed(const std::function<bool(JournalRow&)>& visit);
  bool find_journal_row(std::int64_t row, IndexEntry& entry);
  // What SQL is to read the journal from.
  const char* journal_table();
  void reset_statements();
  std::int64_t owner_id(const Entry& entry);
  std::int64_t find_owner(const Entry& entry);
  void forget_owners();
  void take_owner(std::int64_t owner, Entry& entry);
  std::int64_t path_id(const std::string& key);
  void bind_metadata(SQLite::Statement& statement, int at, const IndexEntry& entry);
  void read_metadata(SQLite::Statement& statement, int at, IndexEntry& entry);
  std::string journal_mark();
  void settle_pending_row();
  void find_content_by_key();
  void add_set(const IndexedSet& set);
  void stage(SetId set, SetKind kind, std::optional<SetId> based_on);
  struct JournalSums {
    std::int64_t rows = 0;
    std::int64_t lines = 0;   // of its ledger; rows without one are `only_here`, or gone
    std::int64_t others = 0;  // that refer to another path
    std::int64_t only_here = 0, removed = 0;
    std::int64_t first = 0, last = 0;  // ids, where it is packed
    void add(int type, std::int64_t flags, bool refers);
  };
  JournalSums sum_up_journal();
  bool add_all_new(const JournalSums& journal, std::int64_t sequence);
  void find_touched(const JournalSums& journal);
  void apply_journal(std::int64_t sequence);
  void apply_stretches(std::int64_t sequence);
  bool holds(const ContentRange& place, const Stretch& stretch);
  void note_fresh(const StretchList& list);
  void remember_stretches();
  void revert_untouched(std::int64_t sequence, std::int64_t base);
  IndexedSet read_set(SQLite::Statement& statement);
  PathVersion read_version(SQLite::Statement& statement);
  std::optional<std::string> other_path(const PathVersion& version, SetId at, const char* when);
  void put_row(const char* insert, const std::string& key, const IndexEntry& entry);
  void read_row(SQLite::Statement& statement, IndexEntry& entry);
  std::optional<IndexEntry> find_row(const char* query, const std::string& path);

  std::string path_;
  std::unique_ptr<SQLite::Database> database_;
  // By the place of its text, which is one for each text.
  std::unordered_map<const char*, std::unique_ptr<SQLite::Statement>> statements_;
  SQLite::Statement& statement(const char* sql);
  std::map<std::string, std::int64_t> owners_;
  std::map<std::int64_t, Entry> owner_names_;
  std::unique_ptr<SQLite::Transaction> transaction_;
  Entry last_owner_;
  std::int64_t last_owner_id_ = 0;
  ContentTable contents_;       // of the journal
  std::string last_key_;        // of its rows that came in order
  bool journal_keyed_ = false;  // whether it is in rows, which have an index by key
  std::string batch_;           // that is not written yet, if it is packed
  std::string packed_;          // a row
  std::int64_t batch_rows_ = 0, next_row_ = 1;
  struct Staged {
    SetId set;
    std::uint64_t lines = 0;  // of its journal
  };
  std::optional<Staged> staged_;  // what transaction_ holds, if it is that
  PendingFile pending_{""};
};

// What a failed call of the index's database means: Error(kNoRoom) where the PC's own disk is full.
Error index_error(const SQLite::Exception& error);

// The chain of `set` back to its full set: itself and its ancestors, as sorted sequences. Throws
// Error(kDamage) if a set that is needed is not among `sets`.
std::vector<std::int64_t> ancestors_of(SetId set, const std::vector<IndexedSet>& sets);

}  // namespace kestrum
