// A job's copy on a shelf, made fit for the PC that takes the shelf over.
#pragma once

#include <string>
#include <vector>

#include "kestrum/base/folder_map.h"

namespace kestrum {

struct AdaptTo {
  std::string job;    // its name here
  std::string shelf;  // absolute folder
  std::string place;  // absolute folder on the disk, where it is now
  FolderMap map;      // there, here
};

struct AdaptedJob {
  std::string text;           // of the job's file
  std::string before, after;  // commands of the copy; the text has none
  std::vector<std::string> folders;
  bool had_unknown_keys = false;  // left out: they may mean a command to the next version
};

// Disk and folders as they are here, commands and the passphrase's file off, everything else as in
// `copy`, which may be forged: every value is compared with what was meant. Throws Error(kDamage)
// if it does not read as meant.
AdaptedJob adapt_job_copy(const std::string& copy, const AdaptTo& to);

}  // namespace kestrum
