#include "kestrum/restore/restore.h"

#include <fcntl.h>
#include <fmt/format.h>
#include <sys/sysmacros.h>
#include <unistd.h>

#include <algorithm>

#include "kestrum/base/below.h"
#include "kestrum/base/error.h"
#include "kestrum/restore/content_reader.h"
#include "kestrum/restore/disk_passes.h"
#include "kestrum/restore/file_writers.h"
#include "kestrum/restore/linked_names.h"
#include "kestrum/restore/made_folders.h"
#include "kestrum/restore/placement.h"
#include "kestrum/restore/sync_ahead.h"
#include "kestrum/restore/target_mapping.h"
#include "kestrum/select/path_order.h"
#include "kestrum/select/source_file.h"

namespace kestrum {
namespace {

using Order = ChosenEntries::Order;

class Restore {
 public:
  Restore(ReadSession& session, RestoreSelection& selection, const RestoreRequest& request,
          RestoreObserver& observer)
      : session_(session),
        selection_(selection),
        request_(request),
        observer_(observer),
        ancestors_(session.ancestors(selection.set())),
        index_(session.index()),
        vouched_(session.shelf()->vouched()),
        targets_(request,
                 request.shared                       ? *request.shared
                 : request.layout == Layout::kTrimmed ? selection.shared_folder()
                                                      : "",
                 root_paths(session.set(selection.set())),
                 moment_in_name(session.set(selection.set()).started)),
        made_(request.rehearse ? "" : request.journals),
        passes_(passes_for(session, request)),
        writers_(
            [this, &session] {
              return std::make_unique<ContentReader>(session.shelf()->shelf, session.identities(),
                                                     request_.stop,
                                                     passes_ ? &passes_->spool() : nullptr);
            },
            request.stop, {[this](FileJob& job) { written(job); }, [this] { report(); }}) {}

  RestoreResult run() {
    try {
      restore_all();
    } catch (...) {
      writers_.give_up();  // what was done is told
      throw;
    }
    return result_;
  }

 private:
  bool flat() const { return request_.layout == Layout::kFlat && !request_.to.empty(); }

  void restore_all() {
    bool opened = false;  // the target itself, and what is above it, is whoever restores'
    targets_.on_making([&](const std::string& folder) {
      if (!opened) return;
      made_.note(folder);
      made_now_.push_back(folder);
    });
    targets_.open_target();
    opened = true;
    selection_.entries().locate(ancestors_);
    auto [files, bytes] = selection_.entries().totals();
    progress_.files_total = files;
    progress_.bytes_total = bytes;
    if (!flat()) {
      each({EntryType::kFolder}, Order::kByPath, [&](const IndexEntry& e) { make_folder(e); });
    }
    restore_files();
    each({EntryType::kLink, EntryType::kFifo, EntryType::kDevice}, Order::kByPath,
         [&](const IndexEntry& e) { make_other(e); });
    finish_folders();
    if (!request_.rehearse) {
      targets_.sync();
      made_.finish();
    }
    result_.unset.unmatched = targets_.unmatched_owners();
  }

  // Of a shelf that goes over several disks, which may be plugged in one after the other.
  static std::unique_ptr<DiskPasses> passes_for(ReadSession& session,
                                                const RestoreRequest& request) {
    const OpenShelf& open = *session.shelf();
    if (!open.earlier || request.rehearse) return nullptr;
    std::vector<std::string> folders;
    if (!request.to.empty()) folders.push_back(request.to);
    if (!request.journals.empty()) folders.push_back(request.journals);
    folders.emplace_back("/tmp");
    return std::make_unique<DiskPasses>(open, session.identities(), std::move(folders),
                                        request.stop);
  }

  void restore_files() {
    if (!passes_) {
      return each({EntryType::kFile}, Order::kByContent,
                  [&](const IndexEntry& e) { make_file(e); });
    }
    do {
      each_file_of(DiskPasses::Turn::kNow,
                   [&](const IndexEntry& e, const ContentLocation&) { make_file(e); });
      writers_.close_readers();
      if (!passes_->anything_later()) return;
      each_file_of(DiskPasses::Turn::kLater,
                   [&](const IndexEntry& e, const ContentLocation& at) { keep_for_later(e, at); });
      session_.release_holds();
    } while (passes_->next(request_.bring_disk));
    each_file_of(DiskPasses::Turn::kLater, [&](const IndexEntry& e, const ContentLocation& at) {
      throw Error(ErrorKind::kPlace, "its content lies on a disk that is not plugged in: " +
                                         passes_->lacking(at, e.line.entry.size));
    });
  }

  void each_file_of(DiskPasses::Turn turn,
                    const std::function<void(const IndexEntry&, const ContentLocation&)>& visit) {
    each({EntryType::kFile}, Order::kByContent, [&](const IndexEntry& entry) {
      auto location = index_.location_of(entry.version, ancestors_);
      ContentLocation at = location.value_or(ContentLocation{});
      if (passes_->turn_of(at, entry.line.entry.size) == turn) visit(entry, at);
    });
  }

  // What goes wrong is told when its turn has come.
  void keep_for_later(const IndexEntry& entry, const ContentLocation& at) {
    try {
      passes_->keep(at, entry.line.entry.size);
    } catch (const Error& error) {
      if (error.kind() == ErrorKind::kStopped) throw;
    }
  }

  void check_stop() const {
    if (request_.stop && request_.stop()) throw Error(ErrorKind::kStopped, "stopped");
  }

  void each(std::initializer_list<EntryType> types, Order order,
            const std::function<void(const IndexEntry&)>& visit) {
    selection_.entries().each(types, order, [&](const IndexEntry& entry) {
      check_stop();
      made_now_.clear();
      guarded(entry, [&] {
        visit(entry);
        finish_later(entry.line.entry.path);
      });
    });
    writers_.drain();
    retrying_ = true;
    for (const IndexEntry& entry : std::exchange(taken_, {})) {
      guarded(entry, [&] { make_file(entry); });
    }
    writers_.drain();
    retrying_ = false;
  }

  // What goes wrong with one entry is told, and no reason to end.
  void guarded(const IndexEntry& entry, const std::function<void()>& attempt) {
    try {
      attempt();
    } catch (const Error& error) {
      // Of the place or the target as a whole: each file that follows would only say it again.
      bool away = passes_ && error.kind() == ErrorKind::kPlace;
      bool ends_all = error.kind() == ErrorKind::kStopped || error.kind() == ErrorKind::kNoRoom ||
                      error.kind() == ErrorKind::kPlace;
      if (ends_all && !away) throw;
      result_.away += away;
      bool damage = error.kind() == ErrorKind::kDamage;
      ++result_.failed;
      result_.damaged += damage;
      observer_.failed("/" + entry.line.entry.path, error.message(), damage);
    }
  }

  // On a shelf that no signature vouches for, anybody may have planted what lends rights.
  Entry without_privileges(const Entry& entry) {
    Entry plain = entry;
    if (entry.type != EntryType::kFolder) plain.mode &= ~(S_ISUID | S_ISGID);
    std::erase_if(plain.xattrs, [](const auto& attribute) {
      return attribute.first.starts_with("security.") || attribute.first.starts_with("trusted.");
    });
    if (plain.mode != entry.mode || plain.xattrs != entry.xattrs) ++result_.unset.privileges;
    return plain;
  }

  Entry as_vouched(const Entry& entry) { return vouched_ ? entry : without_privileges(entry); }

  // ---- What became of an entry

  // Where it goes; nothing if it is skipped, which has been told then.
  std::optional<Placement> place(const Entry& entry,
                                 const std::function<bool(const TargetPath&)>& same) {
    Placement placement = placer_.place(entry, same);
    if (placement.skip.empty()) return placement;
    skip(entry, placement.at.shown, placement.skip, placement.already_right);
    return std::nullopt;
  }

  void skip(const Entry& entry, const std::string& shown, const std::string& reason, bool right) {
    ++(right ? result_.already_right : result_.skipped);
    observer_.skipped("/" + entry.path, shown, reason, right);
  }

  void done(const Entry& entry, const Placement& placement, bool made) {
    if (!made) {
      return skip(entry, placement.at.shown,
                  placement.replace ? "a folder that is not empty has this name" : "exists already",
                  false);
    }
    ++result_.files;
    result_.replaced += placement.replace;
    result_.bytes += entry.size;
    observer_.restored("/" + entry.path, placement.at.shown, entry.type, placement.replace);
  }

  // ---- Folders

  // Folders that were made for the sake of an entry in them, though nobody chose them: they get
  // what the set knows of them as well.
  void finish_later(const std::string& path) {
    if (flat() || (made_now_.empty() && !made_.knows_unfinished())) return;
    for (std::string above = folder_above(path); !above.empty(); above = folder_above(above)) {
      auto at = targets_.of(above, true);
      if (!at) continue;
      bool made = std::find(made_now_.begin(), made_now_.end(), at->shown) != made_now_.end();
      if (!made && !made_.take_over(at->shown)) continue;
      auto known = index_.find(selection_.set(), above);
      if (!known || known->line.entry.type != EntryType::kFolder) continue;
      selection_.entries().add(above, known->version);
      selection_.entries().mark(above);
    }
  }

  void make_folder(const IndexEntry& entry) {
    const Entry& e = entry.line.entry;
    std::optional<TargetPath> at = targets_.of(e.path, true);
    if (!at) return;
    struct stat st {};
    bool there = !at->rel.empty() && at->tree->exists(at->rel, &st), in_place_of_file = false;
    // Two folders that this filesystem takes for one stay two.
    if (there && S_ISDIR(st.st_mode) && !at->tree->has_this_name(at->rel)) {
      *at = placer_.free_beside(*at);
      targets_.redirect(e.path, *at);
      there = at->tree->exists(at->rel, &st);
    }
    if (there && !S_ISDIR(st.st_mode)) {
      Clash clash = placer_.decide(e, *at, st);
      if (clash == Clash::kBoth) {
        *at = placer_.free_beside(*at);
        targets_.redirect(e.path, *at);
      } else if (clash == Clash::kReplace) {
        if (!request_.rehearse) at->tree->replace_by_folder(at->rel);
      } else {
        targets_.block(e.path);
        ++result_.skipped;
        observer_.skipped("/" + e.path, at->shown, "a file is in the way of this folder", false);
        return;
      }
      there = false;
      in_place_of_file = true;
    }
    bool made = request_.rehearse ? !there && !at->rel.empty() : at->tree->make_folder(at->rel);
    if (request_.exact) selection_.entries().mark(e.path);
    made |= !request_.rehearse && made_.take_over(at->shown);
    if (!made && !in_place_of_file) return;
    selection_.entries().mark(e.path);
    ++result_.folders;
    observer_.restored("/" + e.path, at->shown, EntryType::kFolder, false);
  }

  // Last, from the bottom up: writing into a folder moves its time, and a read-only one cannot be
  // written into.
  void finish_folders() {
    if (request_.rehearse) return;
    each({EntryType::kFolder}, Order::kMarkedDeepestFirst, [&](const IndexEntry& entry) {
      auto at = targets_.of(entry.line.entry.path, true);
      if (at) at->tree->set_folder_metadata(at->rel, as_vouched(entry.line.entry), result_.unset);
    });
  }

  // ---- Files

  // A question is answered by what became of the files before.
  bool may_ask(const TargetPath& at) const {
    return request_.clash == Clash::kAsk && request_.ask && at.tree->exists(at.rel);
  }

  void report() {
    progress_.files_done = result_.files + result_.skipped + result_.already_right + result_.failed;
    progress_.bytes_done = writers_.bytes();
    observer_.progress(progress_);
    if (sync_.is_due(progress_.bytes_done)) sync_.begin(progress_.bytes_done, targets_.roots());
  }

  // Files with one name are written behind this thread's back. What stands for others has to be
  // there, and right, before they are looked at.
  void make_file(const IndexEntry& entry) {
    const Entry& e = entry.line.entry;
    progress_.current = "/" + e.path;
    report();
    auto goes_to = targets_.of(e.path);
    bool wait = e.link_group != 0 || (goes_to && (writers_.has(*goes_to) || may_ask(*goes_to)));
    if (wait) writers_.drain();
    const TargetPath* first = flat() ? nullptr : names_.find(entry);
    auto placement = place(e, [&](const TargetPath& at) {
      bool same = same_file(at, entry);
      if (same && first == nullptr) names_.put(entry, at);
      return same;
    });
    if (!placement) return;
    if (first != nullptr && (request_.rehearse || same_file(*first, entry))) {
      return link_to(*first, e, *placement);
    }
    if (request_.rehearse) {
      done(e, *placement, true);
    } else {
      put_content(entry, *placement);
    }
    if (!flat()) names_.put(entry, placement->at);
  }

  // Another name of a file that was restored already.
  void link_to(const TargetPath& first, const Entry& e, const Placement& placement) {
    bool made =
        request_.rehearse || placement.at.tree->make_hardlink(*first.tree, first.rel,
                                                              placement.at.rel, placement.replace);
    Entry counted = e;
    counted.size = 0;
    done(counted, placement, made);
  }

  void put_content(const IndexEntry& entry, const Placement& placement) {
    auto location = index_.location_of(entry.version, ancestors_);
    if (!location) {
      throw Error(ErrorKind::kDamage, "the index does not know where its content lies");
    }
    TargetFolder& tree = *placement.at.tree;
    Entry metadata = as_vouched(entry.line.entry);
    TargetFolder::Owner owner = tree.owner_of(metadata);
    writers_.add(
        {entry, std::move(metadata), *location, placement, tree.spot(placement.at.rel), owner});
    if (entry.line.entry.link_group != 0) writers_.drain();
  }

  void written(FileJob& job) {
    // Its name may have gone to another of these files meanwhile, where the filesystem takes two
    // for one: then it is placed anew.
    bool taken = !job.error && !job.made && !job.placement.replace;
    if (taken && !retrying_) {
      taken_.push_back(job.entry);
      return;
    }
    result_.unset += job.unset;
    guarded(job.entry, [&] {
      if (job.error) std::rethrow_exception(job.error);
      done(job.entry.line.entry, job.placement, job.made);
    });
  }

  bool same_file(const TargetPath& at, const IndexEntry& entry) {
    int parent = at.tree->folder_fd(folder_above(at.rel));
    Fd fd = below::open_regular(parent, base_name(at.rel), O_RDONLY);
    struct stat st {};
    if (!fd || ::fstat(fd.get(), &st) != 0) return false;
    if (static_cast<std::uint64_t>(st.st_size) != entry.line.entry.size) return false;
    bool same = digest_of_file(fd.get(), request_.stop) == *entry.line.digest;
    if (same && request_.exact && !request_.rehearse) {
      const Entry& e = entry.line.entry;
      at.tree->set_metadata(fd.get(), as_vouched(e), result_.unset);
    }
    return same;
  }

  // ---- Everything else

  static bool same_node(const TargetPath& at, const Entry& e) {
    struct stat st {};
    if (!at.tree->exists(at.rel, &st)) return false;
    if (e.type == EntryType::kFifo) return S_ISFIFO(st.st_mode);
    return (e.block_device ? S_ISBLK(st.st_mode) : S_ISCHR(st.st_mode)) &&
           gnu_dev_major(st.st_rdev) == e.device_major &&
           gnu_dev_minor(st.st_rdev) == e.device_minor;
  }

  void make_other(const IndexEntry& entry) {
    const Entry& e = entry.line.entry;
    if (e.type == EntryType::kDevice && !vouched_) {
      throw Error(ErrorKind::kFailed,
                  "a device node of a shelf that no signature vouches for: not made");
    }
    auto placement = place(e, [&](const TargetPath& at) {
      bool same =
          e.type == EntryType::kLink ? at.tree->read_link(at.rel) == e.target : same_node(at, e);
      if (same) at.tree->drop_left_behind(at.rel);
      return same;
    });
    if (!placement) return;
    TargetFolder& tree = *placement->at.tree;
    Entry plain = as_vouched(e);
    bool made =
        request_.rehearse ? true
        : e.type == EntryType::kLink
            ? tree.make_link(placement->at.rel, plain, result_.unset, placement->replace)
            : tree.make_fifo_or_device(placement->at.rel, plain, result_.unset, placement->replace);
    done(e, *placement, made);
  }

  ReadSession& session_;
  RestoreSelection& selection_;
  const RestoreRequest& request_;
  RestoreObserver& observer_;
  std::vector<std::int64_t> ancestors_;
  Index& index_;
  bool vouched_;  // by a signature this PC can check
  TargetMapping targets_;
  MadeFolders made_;
  std::vector<std::string> made_now_;  // for the entry that is being restored; absolute
  Placer placer_{request_, targets_};
  LinkedNames<TargetPath> names_;
  Progress progress_{"restoring"};
  RestoreResult result_;
  std::vector<IndexEntry> taken_;  // whose names were
  bool retrying_ = false;
  SyncAhead sync_;
  std::unique_ptr<DiskPasses> passes_;
  FileWriters writers_;
};

}  // namespace

RestoreResult& RestoreResult::operator+=(const RestoreResult& other) {
  files += other.files;
  folders += other.folders;
  bytes += other.bytes;
  replaced += other.replaced;
  skipped += other.skipped;
  already_right += other.already_right;
  failed += other.failed;
  damaged += other.damaged;
  away += other.away;
  unset += other.unset;
  return *this;
}

RestoreResult restore(ReadSession& session, RestoreSelection& selection,
                      const RestoreRequest& request, RestoreObserver& observer) {
  session.unlock_content();  // before threads read with the keys
  try {
    session.hold(selection.set());
    return Restore(session, selection, request, observer).run();
  } catch (const Error& error) {
    throw named_if_lost(*session.shelf(), error);
  }
}

std::uint64_t restore_to_stream(ReadSession& session, RestoreSelection& selection,
                                const std::function<void(ByteView)>& out) {
  std::optional<IndexEntry> file;
  std::uint64_t count = 0;
  using Type = EntryType;
  selection.entries().each({Type::kFile, Type::kLink, Type::kFifo, Type::kDevice},
                           ChosenEntries::Order::kByPath, [&](const IndexEntry& entry) {
                             ++count;
                             file = entry;
                           });
  if (count != 1 || !file || file->line.entry.type != Type::kFile) {
    throw Error(ErrorKind::kUsage,
                count == 1 ? std::string("--to - takes a regular file")
                           : fmt::format("--to - takes exactly one file, not {}", count),
                "name one file, or restore to a folder");
  }
  session.hold(selection.set());
  auto location = session.index().location_of(file->version, session.ancestors(selection.set()));
  if (!location) throw Error(ErrorKind::kDamage, "the index does not know where its content lies");
  ContentReader reader(session.shelf()->shelf, session.identities());
  std::uint64_t size = file->line.entry.size;
  read_content(reader, *location, size, *file->line.digest, out);
  return size;
}

}  // namespace kestrum
