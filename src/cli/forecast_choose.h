// Leaving out of a job what a run need not copy, chosen in the user's editor.
#pragma once

#include <cstdint>
#include <map>
#include <set>
#include <string>

#include "context.h"
#include "kestrum/job/job.h"

namespace kestrum::cli {

// Collects what the next run would copy: the folders near the top, and the largest files.
class CopyList {
 public:
  explicit CopyList(std::vector<std::string> folders) : folders_(std::move(folders)) {}

  void add(const std::string& path, std::uint64_t size);
  // The list to be edited; all of it is marked.
  std::string text(const Job& job) const;
  // Whether it listed this path.
  bool holds(const std::string& path) const;
  std::uint64_t bytes_of(const std::string& path) const;

 private:
  struct Sum {
    std::uint64_t files = 0, bytes = 0;
  };
  std::vector<std::string> folders_;                         // of the job, absolute
  std::map<std::string, Sum> sums_;                          // by folder
  std::set<std::pair<std::uint64_t, std::string>> largest_;  // the smallest of them first
};

// Opens the list; what comes back without its mark becomes leave-outs of the job, after a question.
// The exit code.
int leave_out_by_hand(const Context& context, const Job& job, const CopyList& list);

}  // namespace kestrum::cli
