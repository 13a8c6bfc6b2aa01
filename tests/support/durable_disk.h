// A shelf's folder together with what a power cut would leave of it: only what was synced.
#pragma once

#include <functional>
#include <map>
#include <memory>
#include <string>
#include <vector>

#include "kestrum/access/open_place.h"
#include "kestrum/place/place.h"

namespace kestrum::test {

class DurableDisk {
 public:
  // What is in the folder now lasts.
  explicit DurableDisk(std::string folder);

  const std::string& folder() const { return folder_; }
  // A place on it, for set_place_opener. The disk outlives it.
  std::shared_ptr<Place> place();

  // The call so many from now fails: once, or, when the power is cut, with all that follow.
  enum class Fault { kOnce, kPowerCut };
  void fail_at(int call, Fault fault);
  bool failed() const { return failed_; }
  // From now on, the call so many behind the one that fails is the last: the power is cut.
  void then_cut_after(int calls) { cut_after_ = calls; }
  // Before the call so many from now, something else happens to the disk, behind its back.
  void before_call(int call, std::function<void()> act);
  // Every call fails while this says so.
  void dies_with(std::function<bool()> dead) { dead_ = std::move(dead); }
  // What was called since fail_at: "rename sets/...".
  const std::vector<std::string>& called() const { return called_; }
  // Puts the folder back to what lasts.
  void cut_power();

 private:
  friend class DurablePlace;
  friend class DurableFile;
  struct Node {
    bool is_folder = false;
    std::string lasting;                                     // content
    std::map<std::string, std::shared_ptr<Node>> now, kept;  // entries: as they are, as they last
  };
  using NodePtr = std::shared_ptr<Node>;

  NodePtr read(const std::string& path);
  void write(const Node& node, const std::string& path);
  Node& folder_of(const std::string& path, std::string& name);
  NodePtr find(const std::string& path);
  bool is_down() const { return (failed_ && fault_ == Fault::kPowerCut) || (dead_ && dead_()); }
  // Counts a call that changes something or reads; throws when it is its turn.
  void call(const std::string& what);

  std::string folder_;
  NodePtr root_;
  int calls_left_ = -1;
  Fault fault_ = Fault::kOnce;
  bool failed_ = false;
  int cut_after_ = -1, act_in_ = -1;
  std::function<void()> act_;
  std::function<bool()> dead_;
  std::vector<std::string> called_;
};

}  // namespace kestrum::test
