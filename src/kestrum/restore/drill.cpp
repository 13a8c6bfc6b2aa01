#include "kestrum/restore/drill.h"

#include <fcntl.h>
#include <fmt/format.h>
#include <signal.h>
#include <sys/stat.h>
#include <sys/statvfs.h>
#include <unistd.h>

#include <cerrno>
#include <cstdlib>
#include <map>
#include <random>
#include <set>

#include "kestrum/access/content_disks.h"
#include "kestrum/base/below.h"
#include "kestrum/base/error.h"
#include "kestrum/base/file.h"
#include "kestrum/base/followed.h"
#include "kestrum/base/host_name.h"
#include "kestrum/restore/restore.h"
#include "kestrum/select/source_file.h"
#include "kestrum/shelf/drill_note.h"

namespace kestrum {
namespace {

// What a drill writes is somebody's files in the clear: it goes with the drill, however that ends.
class Scratch {
 public:
  explicit Scratch(const std::string& above) {
    make_folders(above);
    for (const auto& name : list_folder(above)) {  // of drills that were killed
      int process = std::atoi(name.c_str());
      if (process > 0 && ::kill(process, 0) != 0 && errno == ESRCH) remove_tree(above + "/" + name);
    }
    path_ = above + "/" + std::to_string(::getpid());
    remove_tree(path_);
    make_folders(path_);
  }
  ~Scratch() {
    try {
      remove_tree(path_);
    } catch (const std::exception&) {
      // The next drill removes it.
    }
  }
  const std::string& path() const { return path_; }
  std::uint64_t free() const {
    struct statvfs st {};
    if (::statvfs(path_.c_str(), &st) != 0) return 0;
    return static_cast<std::uint64_t>(st.f_bavail) * st.f_frsize;
  }

 private:
  std::string path_;
};

class DrillObserver : public RestoreObserver {
 public:
  DrillObserver(Observer& below, std::uint64_t files) : below_(below), files_(files) {}

  void progress(const Progress& progress) override {
    Progress shown = progress;
    shown.phase = "restoring";
    shown.files_done += done_;
    shown.files_total = files_;
    shown.bytes_total = 0;
    below_.progress(shown);
  }
  void note(const std::string& text) override { below_.note(text); }
  void restored(const std::string&, const std::string&, EntryType, bool) override {}
  void skipped(const std::string& path, const std::string&, const std::string& reason,
               bool) override {
    failures[path] = reason;
  }
  void failed(const std::string& path, const std::string& reason, bool) override {
    failures[path] = reason;
  }
  void group_done(std::uint64_t files) {
    done_ += files;
    failures.clear();
  }
  std::map<std::string, std::string> failures;  // by absolute path

 private:
  Observer& below_;
  std::uint64_t files_, done_ = 0;
};

// What is not known is told by restoring it.
bool is_at_hand(ReadSession& session, const PathVersion& version, SetId set) {
  auto location = session.index().location_of(version.entry.version, session.ancestors(set));
  return !location || is_at_hand(*session.shelf(), *location, version.entry.line.entry.size);
}

using Groups = std::map<SetId, std::vector<PathVersion>>;

Groups choose_files(ReadSession& session, const DrillRequest& request, std::uint64_t room,
                    DrillResult& result) {
  Groups groups;
  std::mt19937_64 random(request.seed);
  std::set<std::int64_t> chosen;
  std::uint64_t bytes = 0;
  for (std::uint64_t tries = 0; chosen.size() < request.files && tries < 8 * request.files + 64;
       ++tries) {
    auto version = session.index().random_file(random());
    if (!version || !chosen.insert(version->entry.version).second) continue;
    std::vector<SetId> shows;
    for (const IndexedSet& set : session.sets()) {
      bool there = !(set.set < version->first) && (!version->until || set.set < *version->until);
      if (there) shows.push_back(set.set);
    }
    if (shows.empty()) continue;
    std::uint64_t size = version->entry.line.entry.size;
    if (size > room / 2 || bytes + size > room / 2) {
      ++result.too_large;
      continue;
    }
    SetId set = shows[random() % shows.size()];
    if (!is_at_hand(session, *version, set)) {
      ++result.away;
      continue;
    }
    bytes += size;
    groups[set].push_back(std::move(*version));
  }
  return groups;
}

std::string what_differs(int restored, const LedgerEntry& line, const StopRequest& stop) {
  Fd fd = below::open_regular(restored, line.entry.path, O_RDONLY);
  if (!fd) return "was not restored: " + errno_text(errno);
  struct stat st {};
  if (::fstat(fd.get(), &st) != 0 || static_cast<std::uint64_t>(st.st_size) != line.entry.size) {
    return "its size differs";
  }
  auto digest = digest_of_file(fd.get(), stop);
  return digest == line.digest ? "" : "its content differs";
}

}  // namespace

DrillResult drill(ReadSession& session, const DrillRequest& request, Observer& observer) {
  DrillResult result;
  Scratch scratch(request.scratch);
  Groups groups = choose_files(session, request, scratch.free(), result);
  if (groups.empty() && result.away > 0) {
    throw Error(ErrorKind::kPlace, "what was chosen lies on disks that are not plugged in: " +
                                       session.shelf()->earlier->away())
        .may_come();
  }
  if (groups.empty()) {
    throw Error(ErrorKind::kNoMatch, result.too_large > 0
                                         ? "no room to restore a file to: " + request.scratch
                                         : "no restore point holds a file yet");
  }
  DrillObserver teller(observer, request.files);
  for (auto& [set, versions] : groups) {
    ++result.restore_points;
    RestoreSelection selection(session, set);
    for (const PathVersion& version : versions) {
      selection.entries().add(version.entry.line.entry.path, version.entry.version);
    }
    RestoreRequest restoring;
    restoring.to = scratch.path() + "/" + set.to_string();
    restoring.layout = Layout::kFull;
    restoring.stop = request.stop;
    restore(session, selection, restoring, teller);
    Fd restored = open_named(restoring.to, O_PATH | O_DIRECTORY);
    for (const PathVersion& version : versions) {
      const LedgerEntry& line = version.entry.line;
      std::string path = "/" + line.entry.path;
      ++result.files;
      result.bytes += line.entry.size;
      auto failed = teller.failures.find(path);
      std::string reason = failed != teller.failures.end()
                               ? failed->second
                               : what_differs(restored.get(), line, request.stop);
      if (!reason.empty()) result.mismatches.push_back({path, set, reason});
    }
    teller.group_done(versions.size());
    remove_tree(restoring.to);
  }
  if (auto& state = session.shelf()->state) {
    state->update_record([&](ShelfRecord& record) {
      record.drill = {calendar_now(), result.files, result.mismatches.size()};
    });
  } else {
    write_drill_note(*session.shelf()->place,
                     {calendar_now(), host_name(), result.files, result.mismatches.size()});
  }
  return result;
}

}  // namespace kestrum
