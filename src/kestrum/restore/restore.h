// Giving files back: chosen entries of a restore point, beneath a folder and nowhere else.
#pragma once

#include <optional>
#include <string>
#include <vector>

#include "kestrum/access/read_session.h"
#include "kestrum/restore/restore_request.h"
#include "kestrum/restore/restore_selection.h"

namespace kestrum {

// What becomes of each chosen entry. Paths are absolute.
class RestoreObserver : public Observer {
 public:
  // `replaced`: something else had the name before.
  virtual void restored(const std::string& path, const std::string& to, EntryType type,
                        bool replaced) = 0;
  // `already_right`: what is there has the same content.
  virtual void skipped(const std::string& path, const std::string& to, const std::string& reason,
                       bool already_right) = 0;
  virtual void failed(const std::string& path, const std::string& reason, bool damage) = 0;
};

struct RestoreResult {
  std::uint64_t files = 0, folders = 0, bytes = 0;  // restored; files are what is not a folder
  std::uint64_t replaced = 0;                       // of the files
  std::uint64_t skipped = 0, already_right = 0, failed = 0, damaged = 0;
  std::uint64_t away = 0;  // of those that failed: they lie on disks that are not plugged in
  UnsetMetadata unset;

  RestoreResult& operator+=(const RestoreResult& other);
};

// A file whose digest is wrong is reported as damage and not written under its name; what is
// replaced is replaced in one step. Throws Error for what stops everything, such as a full disk.
RestoreResult restore(ReadSession& session, RestoreSelection& selection,
                      const RestoreRequest& request, RestoreObserver& observer);

// The content of the only file of a selection, in order. Throws Error(kUsage) if it is not exactly
// one file, Error(kDamage) if its digest is wrong; wrong bytes may have been given out by then.
std::uint64_t restore_to_stream(ReadSession& session, RestoreSelection& selection,
                                const std::function<void(ByteView)>& out);

}  // namespace kestrum
