// The folder of job files, and where it lies.
#pragma once

#include <optional>
#include <string>
#include <utility>
#include <vector>

#include "kestrum/base/error.h"
#include "kestrum/job/job_file.h"
#include "kestrum/job/job_keys.h"

namespace kestrum {

// Why `name` cannot be a job's name; nothing if it can.
std::optional<std::string> bad_job_name(const std::string& name);

// Where jobs and the machine's state are kept.
struct Home {
  std::string config;  // jobs/ is in it
  std::string state;

  std::string jobs() const { return config + "/jobs"; }
  // --home or KESTRUM_HOME; otherwise /etc/kestrum and /var/lib/kestrum for root, the XDG folders
  // for everybody else.
  static Home find(const std::string& home_option);
  // Throws Error(kUsage) if this is root's process and somebody else could write there.
  void require_own() const;
  static Home usual();  // without option and variable
};

class JobStore {
 public:
  explicit JobStore(Home home) : home_(std::move(home)) {}

  std::string path(const std::string& name) const { return home_.jobs() + "/" + name + ".toml"; }
  std::vector<std::string> names() const;
  bool has(const std::string& name) const;
  // Throws Error(kUsage) naming the nearest job if there is none of this name, or naming the first
  // problem if its file cannot be used.
  Job load(const std::string& name, std::vector<JobProblem>* warnings = nullptr) const;
  ParsedJob parse(const std::string& name) const;
  // Throws Error(kUsage) if the name is taken (ignoring case) or cannot be one.
  void create(const std::string& name, const std::string& toml) const;
  // Sets keys ("destination.places") of a job's file, at one stroke. Whether that changed it.
  bool edit(const std::string& name,
            const std::vector<std::pair<std::string, KeyValue>>& values) const;
  void check_new_name(const std::string& name) const;

 private:
  Error unknown(const std::string& name) const;
  Home home_;
};

}  // namespace kestrum
