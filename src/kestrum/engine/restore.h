// Giving files back: chosen entries of a restore point, beneath a folder and nowhere else.
#pragma once

#include <string>
#include <vector>

#include "kestrum/engine/read_session.h"
#include "kestrum/engine/target_tree.h"

namespace kestrum {

enum class Layout {
  kTrimmed,  // without the folders that all chosen files share
  kFull,     // with all folders from "/" on
  kFlat,     // files only, side by side, names made unique
};

struct RestoreRequest {
  SetId set;
  std::vector<std::string> paths;  // as typed; empty: everything
  std::string to;                  // absolute folder
  Layout layout = Layout::kTrimmed;
  StopRequest stop;
};

// What becomes of each chosen entry. Paths are absolute.
class RestoreObserver : public Observer {
 public:
  // Before anything is written: how many entries each typed path or pattern matched;
  // an empty one stands for everything.
  virtual void matched(const std::string& typed, std::uint64_t files) { (void)typed, (void)files; }
  virtual void restored(const std::string& path, const std::string& to, EntryType type) = 0;
  // `already_right`: what is there has the same content.
  virtual void skipped(const std::string& path, const std::string& to, const std::string& reason,
                       bool already_right) = 0;
  virtual void failed(const std::string& path, const std::string& reason, bool damage) = 0;
};

struct RestoreResult {
  std::uint64_t files = 0, folders = 0, bytes = 0;  // restored; files are what is not a folder
  std::uint64_t skipped = 0, already_right = 0, failed = 0, damaged = 0;
  UnsetMetadata unset;
};

// Never overwrites. A file whose digest is wrong is reported as damage and not written under its
// name. Throws Error(kNoMatch) if nothing matches a path, before anything is written.
RestoreResult restore(ReadSession& session, const RestoreRequest& request,
                      RestoreObserver& observer);

}  // namespace kestrum
