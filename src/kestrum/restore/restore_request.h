// Where a restore is to put what it gives back, and what it does where something is in the way.
#pragma once

#include <functional>
#include <optional>
#include <string>
#include <vector>

#include "kestrum/base/clock.h"
#include "kestrum/base/folder_map.h"
#include "kestrum/base/observer.h"
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
  FolderMap map;                      // what lay in the first goes to the second
  Clash clash = Clash::kSkip;
  std::function<Clash(const ClashSides&)> ask;  // kSkip, kReplace or kBoth
  // Asks for one of these disks, of a shelf that goes over several, and waits until somebody says
  // that it is there; false if nobody brings it. May be empty.
  std::function<bool(const std::vector<std::string>& disks)> bring_disk;
  OwnerRule owner = OwnerRule::kNames;
  bool exact = false;     // what is there and right gets its metadata too
  bool rehearse = false;  // decide everything, write nothing
  std::string journals;   // where MadeFolders keeps its journals; empty: nowhere
  StopRequest stop;
};

}  // namespace kestrum
