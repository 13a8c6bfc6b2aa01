#include "kestrum/access/own_index.h"

#include <unistd.h>

#include "kestrum/access/rebuild_index.h"
#include "kestrum/base/error.h"
#include "kestrum/base/file.h"
#include "kestrum/machine/index_compare.h"
#include "kestrum/machine/job_lock.h"

namespace kestrum {
namespace {

// An index beside the own one, for as long as this lives.
class IndexBeside {
 public:
  explicit IndexBeside(const std::string& own)
      : path_(own + ".check-" + std::to_string(::getpid())) {}
  ~IndexBeside() {
    for (const char* suffix : kIndexFiles) ::unlink((path_ + suffix).c_str());
  }
  IndexBeside(const IndexBeside&) = delete;
  IndexBeside& operator=(const IndexBeside&) = delete;
  const std::string& path() const { return path_; }

 private:
  std::string path_;
};

bool make_anew(const MachineState& machine, const OpenShelf& open, Index& own,
               std::span<const Identity> identities, Observer& observer) {
  try {
    JobLock lock(machine, open.shelf.label().job, "reading its index anew");
    if (own.pending() || own.begun()) return false;
    own.clear();
    return update_index(open.shelf, own, identities, observer).problems.empty();
  } catch (const Error& error) {
    if (error.kind() != ErrorKind::kBusy) throw;
    return false;
  }
}

OwnIndexCheck compare(const MachineState& machine, const OpenShelf& open,
                      std::span<const Identity> identities, Observer& observer) {
  OwnIndexCheck check;
  IndexBeside beside(open.state->index_path());
  {
    Index fresh(beside.path());
    update_index(open.shelf, fresh, identities, observer);
  }
  Index own(open.state->index_path());
  observer.progress({"comparing this PC's index with the ledgers", 0, 0, 0, 0, ""});
  check.differences = compare_indexes(own, beside.path());
  if (!check.differences.empty()) {
    check.made_anew = make_anew(machine, open, own, identities, observer);
  }
  return check;
}

}  // namespace

OwnIndexCheck check_own_index(const MachineState& machine, const OpenShelf& open,
                              std::span<const Identity> identities, Observer& observer) {
  OwnIndexCheck check;
  if (!open.state || !path_exists(open.state->index_path())) return check;
  try {
    return compare(machine, open, identities, observer);
  } catch (const SQLite::Exception& error) {
    check.not_compared = index_error(error).message();
  } catch (const Error& error) {
    if (error.kind() != ErrorKind::kNoRoom && error.kind() != ErrorKind::kBusy) throw;
    check.not_compared = error.message();
  }
  return check;
}

}  // namespace kestrum
