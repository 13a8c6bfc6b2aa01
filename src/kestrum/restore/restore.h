// Giving files back: chosen entries of a restore point, beneath a folder and nowhere else.
#pragma once

#include <optional>
#include <string>
#include <vector>

#include "kestrum/access/read_session.h"
#include "kestrum/restore/restore_selection.h"
#include "kestrum/restore/target_folder.h"

namespace kestrum {

enum class Layout {
  kTrimmed,  // without the folders that all chosen files share
  kFull,     // with all folders from "/" on
  kFlat,     // files only, side by side, names made unique
};

// What becomes of an entry whose name is taken by something else.
enum class Clash { kSkip, kReplace, kBoth, kReplaceOlder, kAsk };

// Both sides of a clash, for somebody who is asked.
struct ClashSides {
  std::string path;                                 // absolute, of what is there
  std::uint64_t size_there = 0, size_restored = 0;  // bytes
  Nanos time_there = 0, time_restored = 0;          // last changed
};

struct RestoreRequest {
  std::string to;  // absolute folder; empty: in place
  Layout layout = Layout::kTrimmed;
  std::optional<std::string> shared;  // the folder that kTrimmed drops, if not what is chosen says
  std::vector<std::pair<std::string, std::string>> map;  // absolute folders: what lay in the first
                                                         // goes to the second
  Clash clash = Clash::kSkip;
  std::function<Clash(const ClashSides&)> ask;  // kSkip, kReplace or kBoth
  OwnerRule owner = OwnerRule::kNames;
  bool exact = false;     // what is there and right gets its metadata too
  bool rehearse = false;  // decide everything, write nothing
  StopRequest stop;
};

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
  UnsetMetadata unset;
};

// A file whose digest is wrong is reported as damage and not written under its name; what is
// replaced is replaced in one step. Throws Error for what stops everything, such as a full disk.
RestoreResult restore(ReadSession& session, Choice& choice, const RestoreRequest& request,
                      RestoreObserver& observer);

// The content of the only file of a choice, in order. Throws Error(kUsage) if it is not exactly
// one file, Error(kDamage) if its digest is wrong; wrong bytes may have been given out by then.
std::uint64_t restore_to_stream(ReadSession& session, Choice& choice,
                                const std::function<void(ByteView)>& out);

}  // namespace kestrum
