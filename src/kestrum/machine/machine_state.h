// What this machine keeps about the shelves it writes to, one folder a shelf:
//
//   <state>/machine              id of this machine, and of the PC that it was made on
//   <state>/<shelf id>/pin.json  what must not change unnoticed: recipient, newest seal, ...
//                      identity.age  the wrapped identity, its third copy
//                      signing.key   this machine's Ed25519 key for the shelf
//                      signing-next.key  what takes its place while the keys are changed
//                      index.sqlite  a cache
//                      index.sqlite-pending  the set that is about to be sealed
//                      job.copy      digest of the job copy last put on the shelf
//                      job.toml      the job as it was then
//                      documents     see ShelfState::documents()
//   <state>/<shelf id>.dropped, .erased  the same of a shelf that its job has let go of
#pragma once

#include <functional>
#include <optional>
#include <string>
#include <vector>

#include "kestrum/crypto/signature.h"
#include "kestrum/job/job_store.h"
#include "kestrum/machine/shelf_record.h"

namespace kestrum {

// Other processes change the same files meanwhile: update_record() takes a lock, and each caller
// changes only what is its own.
class ShelfState {
 public:
  ShelfState(std::string folder, ShelfRecord record_value)
      : record(std::move(record_value)), folder_(std::move(folder)) {}

  ShelfRecord record;
  void save_record() const;  // of a shelf that is new
  // Changes the record as it is on disk by now, with nobody in between.
  void update_record(const std::function<void(ShelfRecord&)>& change);

  std::string index_path() const { return folder_ + "/index.sqlite"; }
  std::string identity_path() const { return folder_ + "/identity.age"; }
  SigningKey signing_key() const;
  void save_signing_key(const SigningKey& key) const;
  // The key that is to take its place, made at the first call; and that it does from now on.
  SigningKey next_signing_key() const;
  void take_next_signing_key() const;
  const std::string& folder() const { return folder_; }

  // What goes along to the next disk while the one that the shelf is on is full: a folder.
  std::string documents() const { return folder_ + "/documents"; }
  bool has_documents() const;
  // An empty folder to fill, and that it takes the place of what was kept before.
  std::string fresh_documents() const;
  void take_fresh_documents() const;
  void drop_documents() const;

 private:
  std::string folder_;
};

// Why nothing looks into what is kept about a shelf any more.
enum class Aside { kDropped, kErased };

class MachineState {
 public:
  explicit MachineState(const Home& home) : home_(home) {}

  // Made at the first call. On a PC that was made from a copy of another one, state and all, it
  // is not the other's: what that one owns is not written to.
  std::string machine_id() const;
  // Whether what is kept about a shelf was copied from another PC with the rest of the state.
  bool is_copied(const ShelfRecord& record) const;
  // Sets aside what was copied about a job's shelves, in folders that nothing looks into.
  void set_copied_aside(const std::string& job) const;
  // The shelves of a job (of every job, without a name). Damaged state folders are left out;
  // of what a later version of the program keeps, newer_than_this is thrown.
  std::vector<ShelfState> shelves(const std::optional<std::string>& job = std::nullopt) const;
  // Sets aside what is kept about a shelf that the job has let go of; nothing of it is lost, but
  // for the index of one that is erased. What was set aside so before stays.
  void set_aside(const ShelfState& state, Aside why) const;
  // What was set aside about a job's shelves.
  std::vector<ShelfState> aside(const std::string& job, Aside why) const;
  // The same, whatever the reason.
  std::vector<ShelfState> all_aside(const std::string& job) const;
  // Takes up again what is kept about a shelf that was dropped, if it was; whether it was.
  bool take_up(const std::string& shelf) const;
  ShelfState create(const ShelfRecord& record) const;
  const std::string& folder() const { return home_.state; }
  std::string runs_folder(const std::string& job) const { return home_.state + "/runs/" + job; }
  std::string lock_path(const std::string& job) const { return home_.state + "/locks/" + job; }

 private:
  std::vector<ShelfState> read_states(const std::optional<std::string>& job,
                                      const std::string& suffix) const;

  Home home_;
};

}  // namespace kestrum
