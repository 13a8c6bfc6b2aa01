// The pages of a report: HTML by themselves, with nothing from outside.
#pragma once

#include <string>
#include <vector>

#include "kestrum/inspect/fleet.h"
#include "kestrum/inspect/job_facts.h"

namespace kestrum {

// A file of a report, to be written into its folder.
struct ReportFile {
  std::string name;
  std::string content;
};

struct Report {
  std::vector<ReportFile> files;  // index.html first
  StatusLevel worst = StatusLevel::kFine;
  std::vector<std::string> lines;     // one a job, or a shelf that is not fine: its state and why
  std::string answer;                 // in a sentence: "2 in trouble, 14 of 16 fine"
  std::vector<std::string> problems;  // what could not be drawn, in words
};

// Of the jobs of this PC, the worst first.
Report job_report(std::vector<JobFacts> jobs, Nanos now);
// Takes out what names files and folders of a job that is protected.
void remove_names(JobFacts& facts);
// Of the shelves of many PCs below `folder`.
Report fleet_report(const std::vector<FleetRow>& rows, const std::string& folder, Nanos now);

// "2 in trouble, 1 to heed, 13 of 16 fine".
std::string count_states(const std::vector<StatusLevel>& levels);

}  // namespace kestrum
