// The PC's own disk, where Kestrum keeps its state, together with what can go wrong with it: calls
// of SQLite and of base/file fail, under the real engine. The shelf's disk may die with it.
#pragma once

#include <atomic>
#include <string>

namespace kestrum::test {

class FaultyState {
 public:
  enum class Fault {
    kOnce,  // one call fails with EIO
    kFull,  // from then on nothing can be written any more: ENOSPC
    kKill,  // from then on nothing at all happens, on no disk: the process is dead
  };

  // Calls below this folder are counted, and fail from now on as asked. There is one at a time.
  explicit FaultyState(std::string folder);
  ~FaultyState();
  FaultyState(const FaultyState&) = delete;

  // The call so many from now fails.
  void fail_at(int call, Fault fault);
  bool failed() const { return failed_; }
  bool dead() const { return failed_ && fault_ == Fault::kKill; }
  void heal();  // no call fails any more
  int calls() const { return calls_; }

  // An errno for a call that fails, otherwise 0.
  int call(const std::string& path, bool writes);

 private:
  std::string folder_;
  int calls_ = 0, left_ = -1;
  Fault fault_ = Fault::kOnce;
  std::atomic<bool> failed_ = false;  // threads of a run ask whether all is dead
};

}  // namespace kestrum::test
