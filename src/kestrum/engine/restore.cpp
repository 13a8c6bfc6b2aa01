#include "kestrum/engine/restore.h"

#include <fcntl.h>
#include <fmt/format.h>
#include <unistd.h>

#include <algorithm>

#include "kestrum/base/error.h"
#include "kestrum/base/text.h"
#include "kestrum/engine/content_reader.h"
#include "kestrum/select/path_order.h"
#include "kestrum/select/pattern.h"
#include "kestrum/shelf/index_rows.h"

namespace kestrum {
namespace {

std::string shared_folder(std::string a, const std::string& b) {
  while (!a.empty() && !is_within(b, a)) a = folder_above(a);
  return a;
}

// The chosen entries, kept in a table of the index's connection: there may be millions.
class Restore {
 public:
  Restore(ReadSession& session, const RestoreRequest& request, RestoreObserver& observer)
      : session_(session),
        request_(request),
        observer_(observer),
        ancestors_(session.ancestors(request.set)),
        index_(session.index()),
        reader_(session.shelf()->shelf, session.identities()) {}

  RestoreResult run() {
    choose();
    tree_.emplace(request_.to);
    make_folders();
    write_files();
    make_others(false);
    make_others(true);
    finish_folders();
    return result_;
  }

 private:
  // ---- Choosing

  void choose() {
    index_.database().exec(
        "DROP TABLE IF EXISTS temp.chosen;"
        "CREATE TEMP TABLE chosen(key BLOB PRIMARY KEY, version INTEGER, set_sequence INTEGER,"
        " tar_offset INTEGER, done INTEGER DEFAULT 0) WITHOUT ROWID");
    std::vector<std::string> paths = request_.paths;
    if (paths.empty()) paths.emplace_back();  // everything
    for (const auto& typed : paths) choose_path(typed);
    locate();
    std::optional<std::string> shared;
    SQLite::Statement top(
        index_.database(),
        "SELECT c.key, v.type FROM temp.chosen c JOIN version v ON v.id = c.version"
        " ORDER BY c.key");
    std::optional<std::string> covered;  // by a chosen folder above
    while (top.executeStep()) {
      std::string path = path_from_key(column_blob(top, 0));
      bool folder = top.getColumn(1).getInt() == static_cast<int>(EntryType::kFolder);
      ++total_files_;
      total_files_ -= folder;
      if (covered && is_within(path, *covered)) continue;
      if (folder) covered = path;
      std::string anchor = folder ? path : folder_above(path);
      shared = shared ? shared_folder(*shared, anchor) : anchor;
    }
    shared_ = shared.value_or("");
  }

  void choose_path(const std::string& typed) {
    bool anchored = false;
    std::string path = stored_form(typed, anchored);
    auto insert = [&](const std::string& where) {
      return "INSERT OR IGNORE INTO temp.chosen(key, version) SELECT p.key, v.id FROM path p"
             " JOIN version v ON v.path = p.id WHERE v.first <= ?1"
             " AND (v.until IS NULL OR v.until > ?1)" +
             where;
    };
    std::uint64_t before = chosen_count();
    bool literal = path.empty() || index_.find(request_.set, path) || has_below(path);
    if (literal) {
      SQLite::Statement s(index_.database(),
                          insert(path.empty() ? "" : " AND p.key >= ?2 AND p.key < ?3"));
      s.bind(1, request_.set.sequence());
      if (!path.empty()) {
        bind_blob(s, 2, path_key(path));
        bind_blob(s, 3, path_key(path) + '\x01');
      }
      s.exec();
    } else {
      PatternSet pattern({anchored ? "/" + path : path});
      SQLite::Statement s(index_.database(),
                          "INSERT OR IGNORE INTO temp.chosen(key, version) VALUES(?, ?)");
      auto cursor = index_.state_at(request_.set);
      IndexEntry entry;
      while (cursor.next(entry)) {
        if (!pattern.match(entry.line.entry.path)) continue;
        bind_blob(s, 1, path_key(entry.line.entry.path));
        s.bind(2, entry.version);
        s.exec();
        s.reset();
      }
    }
    std::uint64_t matched = chosen_count() - before;
    if (matched == 0 && !any_chosen(path)) throw nothing_matched(typed, path, anchored);
    observer_.matched(typed, matched);
  }

  bool has_below(const std::string& path) {
    auto cursor = index_.state_at(request_.set, path);
    IndexEntry entry;
    return cursor.next(entry);
  }

  bool any_chosen(const std::string& path) {
    SQLite::Statement s(index_.database(), "SELECT 1 FROM temp.chosen WHERE key = ?");
    bind_blob(s, 1, path_key(path));
    return s.executeStep();
  }

  std::uint64_t chosen_count() {
    return static_cast<std::uint64_t>(
        index_.database().execAndGet("SELECT count(*) FROM temp.chosen").getInt64());
  }

  Error nothing_matched(const std::string& typed, const std::string& path, bool anchored) {
    const IndexedSet& set = session_.set(request_.set);
    std::string text =
        fmt::format("{}: not there on {}", printable(typed), format_local(set.started));
    if (anchored) {
      if (auto seen = session_.last_seen(path)) {
        return Error(
                   ErrorKind::kNoMatch,
                   fmt::format("{}; last seen {}", text, format_local(session_.set(*seen).started)),
                   "add --as-of last-seen")
            .about_path(typed);
      }
    }
    return Error(ErrorKind::kNoMatch, text,
                 "kestrum look " + session_.job_name() + " shows what is")
        .about_path(typed);
  }

  // Where each file's content lies; a version may lie in several full sets, of which one is in the
  // chain of this restore point.
  void locate() {
    std::string ancestors;
    for (std::int64_t sequence : ancestors_) {
      ancestors += (ancestors.empty() ? "" : ",") + std::to_string(sequence);
    }
    index_.database().exec(
        "UPDATE temp.chosen SET set_sequence = l.set_sequence, tar_offset = l.tar_offset"
        " FROM location l WHERE l.version = temp.chosen.version AND l.set_sequence IN (" +
        ancestors + ")");
  }

  // ---- Writing

  std::string relative(const std::string& path) {
    switch (request_.layout) {
      case Layout::kFull:
        return path;
      case Layout::kFlat: {
        std::string name = base_name(path);
        unsigned& uses = flat_names_[name];
        if (uses++ == 0) return name;
        std::size_t dot = name.rfind('.');
        if (dot == std::string::npos || dot == 0) dot = name.size();
        return fmt::format("{} ({}){}", name.substr(0, dot), uses, name.substr(dot));
      }
      case Layout::kTrimmed:
        break;
    }
    if (shared_.empty()) return path;
    return path.size() <= shared_.size() ? "" : path.substr(shared_.size() + 1);
  }

  std::string shown(const std::string& rel) const {
    return rel.empty() ? request_.to : (request_.to == "/" ? "" : request_.to) + "/" + rel;
  }

  void check_stop() const {
    if (request_.stop && request_.stop()) throw Error(ErrorKind::kStopped, "stopped");
  }

  // Calls `visit` for chosen entries of some types, in an order.
  template <typename Visit>
  void each(const std::string& where_and_order, Visit visit) {
    SQLite::Statement s(
        index_.database(),
        "SELECT c.key, c.version FROM temp.chosen c JOIN version v ON v.id = c.version"
        " WHERE " +
            where_and_order);
    while (s.executeStep()) {
      check_stop();
      std::string path = path_from_key(column_blob(s, 0));
      auto entry = index_.find(request_.set, path);
      if (!entry) continue;
      try {
        visit(*entry);
      } catch (const Error& error) {
        if (error.kind() == ErrorKind::kStopped || error.kind() == ErrorKind::kNoRoom) throw;
        bool damage = error.kind() == ErrorKind::kDamage;
        ++result_.failed;
        result_.damaged += damage;
        observer_.failed("/" + path, error.message(), damage);
      }
    }
  }

  void make_folders() {
    if (request_.layout == Layout::kFlat) return;
    each("v.type = 1 ORDER BY c.key", [&](const IndexEntry& entry) {
      const std::string& path = entry.line.entry.path;
      if (!tree_->make_folder(relative(path))) return;
      SQLite::Statement s(index_.database(), "UPDATE temp.chosen SET done = 1 WHERE key = ?");
      bind_blob(s, 1, path_key(path));
      s.exec();
      ++result_.folders;
      observer_.restored("/" + path, shown(relative(path)), EntryType::kFolder);
    });
  }

  void write_files() {
    each("v.type = 0 ORDER BY c.set_sequence, c.tar_offset, c.key",
         [&](const IndexEntry& entry) { write_file(entry, relative(entry.line.entry.path)); });
  }

  void write_file(const IndexEntry& entry, const std::string& rel) {
    const Entry& e = entry.line.entry;
    progress_.files_total = total_files_;
    progress_.files_done = result_.files + result_.skipped + result_.already_right + result_.failed;
    progress_.current = "/" + e.path;
    observer_.progress(progress_);
    struct stat st {};
    if (tree_->exists(rel, &st)) return skip(entry, rel, &st);
    auto location = index_.location_of(entry.version, ancestors_);
    if (!location)
      throw Error(ErrorKind::kDamage, "the index does not know where its content lies");
    TargetTree::NewFile file(*tree_, rel);
    reader_.read(*location, e.size, *entry.line.digest, [&](std::uint64_t offset, ByteView data) {
      check_stop();
      while (!data.empty()) {
        ssize_t n = ::pwrite(file.fd(), data.data(), data.size(), static_cast<off_t>(offset));
        if (n < 0 && errno == EINTR) continue;
        if (n < 0) throw system_error(errno, shown(rel));
        data = data.subspan(static_cast<std::size_t>(n));
        offset += static_cast<std::uint64_t>(n);
        progress_.bytes_done += static_cast<std::uint64_t>(n);
      }
      observer_.progress(progress_);
    });
    if (::ftruncate(file.fd(), static_cast<off_t>(e.size)) != 0)
      throw system_error(errno, shown(rel));
    tree_->set_metadata(file.fd(), e, result_.unset);
    if (!file.keep()) return skip(entry, rel, nullptr);
    ++result_.files;
    result_.bytes += e.size;
    observer_.restored("/" + e.path, shown(rel), e.type);
  }

  void skip(const IndexEntry& entry, const std::string& rel, const struct stat* st) {
    const Entry& e = entry.line.entry;
    bool right = st != nullptr && S_ISREG(st->st_mode) &&
                 static_cast<std::uint64_t>(st->st_size) == e.size &&
                 same_content(rel, *entry.line.digest);
    ++(right ? result_.already_right : result_.skipped);
    observer_.skipped("/" + e.path, shown(rel),
                      right ? "already there, the same" : "exists already", right);
  }

  bool same_content(const std::string& rel, const Digest& digest) {
    int parent = tree_->folder_fd(folder_above(rel));
    Fd fd(::openat(parent, base_name(rel).c_str(), O_RDONLY | O_NOFOLLOW | O_NONBLOCK | O_CLOEXEC));
    if (!fd) return false;
    Digester digester;
    Bytes buffer(1 << 20);
    for (;;) {
      ssize_t n = ::read(fd.get(), buffer.data(), buffer.size());
      if (n < 0) return false;
      if (n == 0) return digester.finish() == digest;
      digester.update({buffer.data(), static_cast<std::size_t>(n)});
    }
  }

  void make_others(bool hardlinks) {
    each(hardlinks ? "v.type = 3 ORDER BY c.key" : "v.type IN (2, 4, 5) ORDER BY c.key",
         [&](const IndexEntry& entry) {
           const Entry& e = entry.line.entry;
           if (hardlinks) return make_hardlink(entry);
           std::string rel = relative(e.path);
           bool made = e.type == EntryType::kLink ? tree_->make_link(rel, e)
                                                  : tree_->make_fifo_or_device(rel, e);
           finish_other(e, rel, made);
         });
  }

  // Another name of a file: a link if that file was restored too, otherwise a file of its own.
  void make_hardlink(const IndexEntry& entry) {
    const Entry& e = entry.line.entry;
    auto target = index_.find(request_.set, e.target);
    if (!target || target->line.entry.type != EntryType::kFile) {
      throw Error(ErrorKind::kDamage, "it is a hard link to a file that is not in this set");
    }
    std::string rel = relative(e.path);
    bool link = request_.layout != Layout::kFlat && any_chosen(e.target);
    if (!link) {
      IndexEntry file = *target;
      file.line.entry.path = e.path;
      return write_file(file, rel);
    }
    finish_other(e, rel, tree_->make_hardlink(relative(e.target), rel));
  }

  void finish_other(const Entry& e, const std::string& rel, bool made) {
    if (made) {
      ++result_.files;
      observer_.restored("/" + e.path, shown(rel), e.type);
    } else {
      ++result_.skipped;
      observer_.skipped("/" + e.path, shown(rel), "exists already", false);
    }
  }

  // Last, from the bottom up: writing into a folder moves its time, and a read-only one cannot be
  // written into.
  void finish_folders() {
    each("v.type = 1 AND c.done = 1 ORDER BY c.key DESC", [&](const IndexEntry& entry) {
      tree_->set_folder_metadata(relative(entry.line.entry.path), entry.line.entry, result_.unset);
    });
  }

  ReadSession& session_;
  const RestoreRequest& request_;
  RestoreObserver& observer_;
  std::vector<std::int64_t> ancestors_;
  Index& index_;
  ContentReader reader_;
  std::optional<TargetTree> tree_;
  std::string shared_;
  std::map<std::string, unsigned> flat_names_;
  std::uint64_t total_files_ = 0;
  Progress progress_{"restoring"};
  RestoreResult result_;
};

}  // namespace

RestoreResult restore(ReadSession& session, const RestoreRequest& request,
                      RestoreObserver& observer) {
  return Restore(session, request, observer).run();
}

}  // namespace kestrum
