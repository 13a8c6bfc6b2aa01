// The restore points of a job, on whichever of its disks they lie.
#pragma once

#include <memory>
#include <optional>
#include <string>
#include <vector>

#include "kestrum/access/read_session.h"

namespace kestrum {

// Used by one thread. A shelf is opened when something of it is asked for, one that is away by what
// this PC's index knows, unless content is needed.
class JobReader {
 public:
  // Throws Error: kUsage, kPlace if no shelf of the job is known or the one that is meant is away.
  JobReader(const MachineState& machine, ReadOptions options, Observer& observer);
  JobReader(const JobReader&) = delete;  // its sessions ask it about the other disks
  JobReader& operator=(const JobReader&) = delete;

  struct Point {
    ReadSession* session = nullptr;
    SetId set;
  };
  // The restore point that TIME means over all disks that can be read; throws as
  // ReadSession::choose, Error(kUsage) for a set that several disks have, Error(kPlace) for one
  // that lies on a disk which is away. If a disk that is away has a later one, that is told, and
  // lacks_later() is true from then on.
  Point choose(const std::optional<std::string>& moment_text, Nanos now);
  bool lacks_later() const { return lacks_later_; }

  // Every shelf that can be read; what cannot be is told. Throws Error if none can.
  std::vector<ReadSession*> sessions();
  // The newest restore point, of those that sessions() gives, that holds `path`.
  std::optional<Point> last_seen(const std::string& path);
  // What is known of the disks that sessions() could not read, without any content.
  std::vector<ReadSession*> remembered();
  // Disks that sessions() could not read, as a clause each: "not plugged in: red-disk".
  const std::vector<std::string>& left_out() const { return left_out_; }

  const std::string& job_name() const { return job_name_; }
  bool several() const { return slots_.size() > 1; }

 private:
  struct Slot {
    KnownShelf shelf;  // until it is opened
    std::string name;  // of the disk
    bool readable = false;
    std::vector<SetId> ids;        // of its sets, damaged ones too
    std::vector<SetFacts> facts;   // of those that could be restored from
    std::optional<Error> why_not;  // it is not plugged in, or cannot be opened
    std::optional<SetId> suspect_since;
    std::unique_ptr<ReadSession> session, remembered;
    std::optional<Error> failed;
  };

  void add(KnownShelf shelf);
  ReadSession& open(Slot& slot);
  Slot* holder(SetId id);
  Slot* best_for(const Moment& moment, bool unasked, bool readable, SetFacts& best);
  Error away(const Slot& slot, SetId id) const;
  Point none_found(const std::optional<std::string>& moment_text, Nanos now);

  ReadOptions options_;
  std::string job_name_;
  Observer& observer_;
  std::vector<Slot> slots_;
  std::vector<std::string> left_out_;
  bool looked_at_all_ = false, lacks_later_ = false;
};

}  // namespace kestrum
