// The figures of a report. Each is drawn if gnuplot can; otherwise it has its data alone.
#pragma once

#include <map>
#include <string>
#include <vector>

#include "kestrum/base/error.h"
#include "kestrum/inspect/fleet.h"
#include "kestrum/inspect/job_facts.h"
#include "kestrum/report/plot.h"

namespace kestrum {

// Draws, or notes why not.
class Draftsman {
 public:
  void draw(Figure& figure, const Plot& plot);
  std::string png(const Figure& figure);      // empty if it could not be made
  std::vector<std::string> problems() const;  // in words

 private:
  void note(const Error& error);
  std::map<std::string, std::string> problems_;  // by their hints
};

// Restore points by day, full and dependent sets by letter and shade.
Figure calendar_figure(const JobFacts& facts);
// What each chain of a disk took, over time.
Figure stored_figure(const JobFacts& facts, const DiskFacts& disk, const std::string& name,
                     Draftsman& draftsman);
// Bytes copied and time taken, run by run.
Figure runs_figure(const JobFacts& facts, Draftsman& draftsman);
// Free room on a disk, as it was and as it may become.
Figure room_figure(const JobFacts& facts, const DiskFacts& disk, const std::string& name,
                   Draftsman& draftsman);
// How many shelves of many PCs have a restore point of which age, by their states.
Figure ages_figure(const std::vector<FleetRow>& rows, Nanos now, Draftsman& draftsman);

}  // namespace kestrum
