#include "kestrum/restore/mirror.h"

#include <sys/stat.h>

#include <algorithm>

#include "kestrum/base/below.h"
#include "kestrum/base/file.h"
#include "kestrum/base/followed.h"
#include "kestrum/base/units.h"
#include "kestrum/machine/own_folders.h"
#include "kestrum/plan/change_detector.h"
#include "kestrum/restore/target_folder.h"
#include "kestrum/select/path_order.h"
#include "kestrum/select/source_file.h"
#include "kestrum/select/source_tree.h"
#include "kestrum/select/walk.h"

namespace kestrum {
namespace {

// Whether a path is now what it was at the restore point: a name of a file that had several, only
// if it still is one file with the first of them in the folder.
bool same_entry(const WalkEvent& event, const std::string& here, Index& index,
                const SetAsideRequest& request, const SourceTree& source) {
  std::string rel = relative_to(event.path, here);
  auto then = index.find(request.set, rel.empty() ? request.folder : request.folder + "/" + rel);
  if (!then) return false;
  const Entry& e = then->line.entry;
  if (S_ISDIR(event.st.st_mode)) return e.type == EntryType::kFolder;
  if (e.link_group != 0) {
    auto first = index.first_of_group(request.set, *then, request.folder);
    if (first) first = mapped(request.map, "/" + *first).substr(1);
    struct stat st {};
    bool is_one =
        !first || *first == event.path ||
        (source.look(*first, st) && st.st_dev == event.st.st_dev && st.st_ino == event.st.st_ino);
    if (!is_one) return false;
  }
  return has_content_of(event, *then, request.stop);
}

// Owner and mode of a folder for one that is made beside it: whoever could reach what was moved
// there still can.
void take_after(int folder, int made) {
  struct stat st {};
  if (folder < 0 || made < 0 || ::fstat(folder, &st) != 0) return;
  if (!below::set_owner(made, st.st_uid, st.st_gid)) return;  // it stays with whoever restores
  below::set_mode(made, st.st_mode & 07777);
}

}  // namespace

SetAside set_aside_what_differs(const MachineState& machine, ReadSession& session,
                                const SetAsideRequest& request, Observer& observer) {
  const std::string folder = mapped(request.map, "/" + request.folder).substr(1);  // here
  const StopRequest& stop = request.stop;
  SetAside aside;
  Selection selection(request.job.rules, own_folders(machine, ""));
  SourceTree source({"/" + folder});
  Walk walk({"/" + folder}, selection);
  WalkEvent event;
  std::vector<std::string> moving;  // relative to "/", a folder covers what is in it
  while (walk.next(event)) {
    if (stop && stop()) throw Error(ErrorKind::kStopped, "stopped");
    observer.progress({"comparing", 0, 0, 0, 0, "/" + event.path});
    if (event.kind != WalkEvent::Kind::kEntry) continue;
    if (!moving.empty() && is_within(event.path, moving.back())) continue;
    if (event.path == folder) continue;
    if (!same_entry(event, folder, session.index(), request, source)) {
      moving.push_back(event.path);
    }
  }
  for (const auto& path : moving) aside.paths.push_back("/" + path);
  if (moving.empty()) return aside;
  std::string time = format_local(request.now);
  std::replace(time.begin(), time.end(), ' ', '-');
  std::erase(time, ':');
  std::string base = "/" + folder + ".set-aside-" + time;
  aside.folder = base;
  for (int number = 2; is_named(aside.folder); ++number) {
    aside.folder = base + "-" + std::to_string(number);
  }
  if (request.rehearse) return aside;
  // Known as such before there is anything in it, or a run beside would copy it. Both folders are
  // held open: what they were when this began is what is moved out of, and into.
  Fd from = source.open_folder(folder);
  if (!from) throw system_error(errno, "/" + folder);
  add_set_aside_folder(machine, aside.folder);
  std::vector<std::string> made;
  TargetFolder to(aside.folder, OwnerRule::kMe, true,
                  [&](const std::string& path) { made.push_back(path); });
  if (!to.was_made()) {
    throw Error(ErrorKind::kFailed, aside.folder + ": something else was made there just now");
  }
  for (const auto& path : moving) {
    std::string rel = path.substr(folder.size() + 1);
    if (!below::rename(from.get(), rel, to.folder_fd(folder_above(rel)), base_name(rel))) {
      throw system_error(errno, "/" + path);
    }
  }
  // The deepest first: then its owner may reach it.
  for (auto path = made.rbegin(); path != made.rend(); ++path) {
    std::string rel = relative_to(*path, aside.folder);
    Fd original = below::open_passage(from.get(), rel);
    take_after(original.get(), to.folder_fd(rel));
  }
  return aside;
}

}  // namespace kestrum
