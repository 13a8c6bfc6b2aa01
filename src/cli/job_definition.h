// Defining a job: from options, from answers, from a file that was brought along.
#pragma once

#include <map>
#include <string>
#include <vector>

#include "args.h"
#include "context.h"
#include "kestrum/job/job_keys.h"

namespace kestrum::cli {

using JobValues = std::map<std::string, KeyValue>;

// A folder as typed, absolute.
std::string typed_folder(const std::string& typed);
// A folder to copy, or a pattern of folders: one that is there is meant as it stands.
std::string typed_source(const std::string& typed);
// A place as somebody types it. Throws Error(kUsage) for a share that is not mounted, such as
// nas:/x.
std::string typed_place(const std::string& typed);

// What the options of `job new` say. Schedule phrases come out in their standard form.
JobValues values_from(const Args& args);

// Asks for what is missing, in the order people think; `name` too.
void ask_for_missing(const Context& context, std::string& name, JobValues& values, bool same_disk);

// Throws Error(kUsage) for the first thing that is wrong with a job's text; otherwise the job.
Job checked_job(const std::string& name, const std::string& text, const std::string& hint);

// Folders and places of a job that are not there now, in words.
std::vector<std::string> missing_paths(const Job& job);

struct Defined {
  std::vector<std::string> shelves;  // that were started
  std::vector<std::string> waiting;  // places that the shelf goes on to when it is full
  std::vector<std::string> known;    // that were there already
};
// Writes the job's file and starts a shelf at each of its places that is there. Nothing is left
// behind if that fails. With `replace` the job may exist.
Defined define_job(const Context& context, const Args& args, const Job& job,
                   const std::string& text, bool replace);

// What is still to be done and known about a job that was just defined.
void print_defined(const Context& context, const Job& job, const Defined& defined);

}  // namespace kestrum::cli
