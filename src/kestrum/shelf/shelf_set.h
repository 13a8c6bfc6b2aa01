// A set as it lies on a shelf.
#pragma once

#include <string>

#include "kestrum/shelf/seal.h"

namespace kestrum {

struct ShelfSet {
  SetId id;
  std::string folder;        // relative to the shelf: "sets/c0003-000_..."
  std::string problem;       // why it is damaged; empty if its seal is good
  std::string problem_file;  // the file concerned, without the folder
  // A seal is there, but cannot be read, checked or understood: what it would say is not known.
  // With a problem and without this, there is no seal at all, so that it never was a set.
  bool unreadable = false;
  // The seal before it, by number, is another than the one that was there when it was made.
  bool exchanged = false;
  bool vouched = false;  // its seal is signed as it must be, whatever else it says
  bool newer = false;    // that is because a later version of the program wrote it
  Seal seal;             // meaningful if there is no problem
  Digest seal_digest{};
  std::string trusted;  // why somebody trusts it though it is suspect; empty if nobody said so

  bool sealed() const { return problem.empty(); }
  // By itself; what came after a suspect set is no better than it.
  bool suspect() const { return sealed() && seal.suspect && trusted.empty(); }
};

}  // namespace kestrum
