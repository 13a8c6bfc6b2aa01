// Where each restored entry goes: the layout, the mapping, names changed to get out of the way.
#pragma once

#include <map>
#include <memory>
#include <optional>
#include <set>
#include <string>
#include <vector>

#include "kestrum/restore/restore_request.h"

namespace kestrum {

// "2026-03-14-2100", for names.
std::string moment_in_name(Nanos time);

// A path below a folder that is restored to.
struct TargetPath {
  TargetFolder* tree = nullptr;
  std::string rel;    // in the tree
  std::string shown;  // absolute
};

class TargetMapping {
 public:
  // `shared`: the folder that all chosen entries share; `roots`: the job's folders (absolute),
  // which are where a restore in place stays beneath.
  TargetMapping(const RestoreRequest& request, std::string shared, std::vector<std::string> roots,
                const std::string& taken);

  // Of every folder that is to be made from here on; absolute.
  void on_making(TargetFolder::Making making) { making_ = std::move(making); }
  // Returns when all that was written would survive a power cut.
  void sync();
  std::vector<std::shared_ptr<const Fd>> roots() const;  // of the trees that are there
  // Makes the folder to restore to, or finds out whether it could be made; throws Error if it is a
  // file or cannot be made.
  void open_target();
  // Nothing if something is in the way of a folder above. In place, one of the job's folders is
  // opened itself; a file that the job names goes to the folder it is in.
  std::optional<TargetPath> of(const std::string& path, bool folder = false);
  // "rota.of-2026-03-14-2100.ods" in the same folder; with a `number` above 1 behind it.
  TargetPath beside(const TargetPath& at, unsigned number) const;
  // From now on everything below the folder `path` goes below `at` instead, or nowhere.
  void redirect(const std::string& path, const TargetPath& at) { redirected_[path] = at; }
  void block(const std::string& path) { blocked_.insert(path); }
  // Of all that was written to; for setting owners.
  std::uint64_t unmatched_owners() const;

 private:
  TargetPath plain(const std::string& path, bool folder);
  TargetPath at(const std::string& folder, const std::string& rel, bool is_folder);
  TargetFolder& tree(const std::string& folder);
  std::string flat_name(const std::string& name);

  const RestoreRequest& request_;
  std::string shared_;
  std::vector<std::string> roots_;
  std::string taken_;  // "2026-03-14-2100"
  TargetFolder::Making making_;
  std::map<std::string, std::unique_ptr<TargetFolder>> trees_;
  std::map<std::string, TargetPath> redirected_;
  std::set<std::string> blocked_;
  std::map<std::string, unsigned> flat_numbers_;  // the last one that a name was given
  std::set<std::string> flat_taken_;
  std::map<std::string, std::string> flat_chosen_;  // of files that were asked for already
};

}  // namespace kestrum
