// What a report and a mail say of a job, in sentences.
#pragma once

#include <string>
#include <vector>

#include "kestrum/inspect/fleet.h"
#include "kestrum/inspect/job_facts.h"

namespace kestrum {

// "the newest restore point is 6 hours old, the next run is at Sun 2026-04-05 21:00"; of a job that
// is not fine its first reason.
std::string state_in_words(const JobStatus& status, Nanos now);
// "full about Fri 2026-06-12, at the earliest Mon 2026-06-01, if things go on as in 14 past runs".
std::string room_in_words(const DiskFacts& disk);
std::string verify_in_words(const JobStatus& status, Nanos now);
std::string drill_in_words(const JobStatus& status, Nanos now);
// "studio-pc studio"; of a folder that is no shelf, where it lies below `top`.
std::string name_of_row(const FleetRow& row, const std::string& top);
// Of how many shelves this PC cannot tell whether what is told was signed; empty if of none.
std::string unknown_signers_in_words(const std::vector<FleetRow>& rows);
// With a capital letter in front, if it begins with a word.
std::string capitalised(std::string text);
// "12 of 30 GB free" where both are known.
std::string free_in_words(const DiskFacts& disk);

}  // namespace kestrum
