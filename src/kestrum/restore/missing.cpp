#include "kestrum/restore/missing.h"

#include <sys/stat.h>

#include "kestrum/base/file.h"
#include "kestrum/base/text.h"
#include "kestrum/select/path_order.h"
#include "kestrum/select/pattern.h"
#include "kestrum/select/source_file.h"
#include "kestrum/select/walk.h"

namespace kestrum {
namespace {

void check_stop(const StopRequest& stop) {
  if (stop && stop()) throw Error(ErrorKind::kStopped, "stopped");
}

// The newest restore point up to `newest` that holds `version`.
std::optional<SetId> newest_with(const ReadSession& session, const PathVersion& version,
                                 SetId newest) {
  const auto& sets = session.sets();
  for (auto set = sets.rbegin(); set != sets.rend(); ++set) {
    if (newest < set->set || (version.until && !(set->set < *version.until))) continue;
    if (set->set < version.first) break;
    return set->set;
  }
  return std::nullopt;
}

}  // namespace

std::optional<Nanos> newest_with_file(ReadSession& session, const std::string& path, SetId newest) {
  std::optional<Nanos> when;
  for (const PathVersion& version : session.index().history_of(path)) {
    if (version.entry.line.entry.type == EntryType::kFolder) continue;
    if (auto set = newest_with(session, version, newest)) when = session.set(*set).started;
  }
  return when;
}

MissingFiles::MissingFiles(ReadSession& session, const MissingRequest& request, Observer& observer)
    : session_(session), entries_(session.index()) {
  std::vector<std::string> roots = expand_patterns(request.job.folders);
  SourceTree source(roots);
  if (request.folders.empty()) look_below("", request, source);
  FolderMap back = reversed(session.folders_here(session.sets().front().set));
  for (const auto& folder : request.folders) {
    look_below(folder, request, source);
    std::string then = mapped(back, "/" + folder).substr(1);  // its name elsewhere
    if (then != folder) look_below(then, request, source);
  }
  drop_moved(request, roots, source, observer);
}

void MissingFiles::look_below(const std::string& folder, const MissingRequest& request,
                              const SourceTree& source) {
  SetId newest = request.newest;
  bool there = false;
  std::string looked_at;
  std::optional<SetId> map_of;
  FolderMap map;
  session_.index().each_version(folder, newest, [&](const PathVersion& version) {
    check_stop(request.stop);
    const Entry& entry = version.entry.line.entry;
    if (entry.type == EntryType::kFolder) return;
    // A later version of the path takes the place of an earlier one.
    auto set = newest_with(session_, version, newest);
    if (!set) return;
    if (map_of != set) map = session_.folders_here(*set);
    map_of = set;
    std::string here = map.empty() ? entry.path : mapped(map, "/" + entry.path).substr(1);
    if (here != looked_at) {
      struct stat st {};
      there = source.look(here, st);
      looked_at = here;
    }
    if (there) return;
    if (here != entry.path) {  // of what was made elsewhere and what was made here, the later
      auto made_here = newest_with_file(session_, here, newest);
      if (made_here && session_.set(*set).started <= *made_here) return;
    }
    if (request.later_elsewhere &&
        request.later_elsewhere(entry.path, session_.set(*set).started)) {
      return;
    }
    entries_.put(version, *set);
  });
}

// What merely has another name is not missing: a file on the disk that its restore points do not
// know under that name, of the same size and time, is read and compared.
void MissingFiles::drop_moved(const MissingRequest& request, const std::vector<std::string>& roots,
                              const SourceTree& source, Observer& observer) {
  Selection selection(request.job.rules, {});
  Walk walk(roots, selection);
  WalkEvent event;
  std::uint64_t seen = 0;
  while (walk.next(event)) {
    check_stop(request.stop);
    if (event.kind != WalkEvent::Kind::kEntry || !S_ISREG(event.st.st_mode)) continue;
    observer.progress({"looking for moved files", ++seen, 0, 0, 0, "/" + event.path});
    entries_.put_candidate(event.path, static_cast<std::uint64_t>(event.st.st_size),
                           FileTime(event.st.st_mtim));
  }
  std::vector<std::string> there;
  entries_.each_candidate(
      [&](const std::string& path, const Digest& digest, const std::string& candidate) {
        check_stop(request.stop);
        Fd fd = source.open_file(candidate);
        if (!fd || digest_of_file(fd.get(), request.stop) != digest) return false;
        there.push_back(path);
        if (request.moved) request.moved("/" + path, "/" + candidate);
        return true;
      });
  for (const auto& path : there) entries_.drop(path);
}

void MissingFiles::fill(RestoreSelection& selection) {
  entries_.each(selection.set(), [&](const std::string& path, std::int64_t version) {
    selection.entries().add(path, version);
  });
}

}  // namespace kestrum
