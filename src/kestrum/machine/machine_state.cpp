#include "kestrum/machine/machine_state.h"

#include <fcntl.h>
#include <sys/file.h>
#include <unistd.h>

#include <cstdlib>

#include "kestrum/base/file.h"
#include "kestrum/base/text.h"
#include "kestrum/base/uuid.h"
#include "kestrum/machine/pending_set.h"
#include "kestrum/shelf/document.h"

namespace kestrum {
namespace {

std::string suffix_of(Aside why) {
  return why == Aside::kDropped ? ".dropped" : ".erased";
}

}  // namespace

void ShelfState::save_record() const {
  write_file(folder_ + "/pin.json", record.to_json());
}

void ShelfState::update_record(const std::function<void(ShelfRecord&)>& change) {
  std::string path = folder_ + "/pin.json", lock_path = folder_ + "/pin.lock";
  Fd lock(::open(lock_path.c_str(), O_RDWR | O_CREAT | O_CLOEXEC, 0600));
  if (!lock || ::flock(lock.get(), LOCK_EX) != 0) throw system_error(errno, lock_path);
  record = ShelfRecord::parse(read_file(path), path);
  change(record);
  save_record();
}

bool ShelfState::has_documents() const {
  return path_exists(documents());
}

std::string ShelfState::fresh_documents() const {
  std::string fresh = documents() + ".new";
  remove_tree(fresh);
  make_folders(fresh);
  return fresh;
}

void ShelfState::take_fresh_documents() const {
  drop_documents();
  std::string fresh = documents() + ".new";
  if (::rename(fresh.c_str(), documents().c_str()) != 0) throw system_error(errno, documents());
  sync_folder(folder_);
}

void ShelfState::drop_documents() const {
  remove_tree(documents());
}

SigningKey ShelfState::signing_key() const {
  std::string text = read_file(folder_ + "/signing.key");
  SigningKey key = SigningKey::load(text);
  wipe(text.data(), text.size());
  return key;
}

SigningKey ShelfState::next_signing_key() const {
  std::string path = folder_ + "/signing-next.key";
  if (!path_exists(path)) write_file(path, SigningKey::generate().save().text());
  std::string text = read_file(path);
  SigningKey key = SigningKey::load(text);
  wipe(text.data(), text.size());
  return key;
}

void ShelfState::take_next_signing_key() const {
  std::string next = folder_ + "/signing-next.key", now = folder_ + "/signing.key";
  if (::rename(next.c_str(), now.c_str()) != 0) throw system_error(errno, next);
  sync_folder(folder_);
}

void ShelfState::save_signing_key(const SigningKey& key) const {
  write_file(folder_ + "/signing.key", key.save().text());
}

std::string MachineState::machine_id() const {
  std::string path = home_.state + "/machine", pc = pc_uuid();
  std::vector<std::string> lines;
  if (path_exists(path)) lines = split(read_file(path), '\n');
  if (!lines.empty() && is_uuid(lines[0])) {
    bool bound = lines.size() > 1 && is_uuid(lines[1]);
    if (bound) return pc.empty() || pc == lines[1] ? lines[0] : combined_uuid(lines[0], pc);
    if (pc.empty()) return lines[0];
  } else {
    make_folders(home_.state);
    lines = {make_uuid()};
  }
  write_file(path, lines[0] + "\n" + (pc.empty() ? "" : pc + "\n"));
  return lines[0];
}

bool MachineState::is_copied(const ShelfRecord& record) const {
  return !record.machine.empty() && record.machine != machine_id();
}

void MachineState::set_copied_aside(const std::string& job) const {
  for (const ShelfState& state : shelves(job)) {
    if (!is_copied(state.record)) continue;
    std::string aside = state.folder() + ".of-another-pc";
    if (::rename(state.folder().c_str(), aside.c_str()) != 0) throw system_error(errno, aside);
    sync_folder(home_.state);
  }
}

std::vector<ShelfState> MachineState::shelves(const std::optional<std::string>& job) const {
  return read_states(job, "");
}

std::vector<ShelfState> MachineState::read_states(const std::optional<std::string>& job,
                                                  const std::string& suffix) const {
  std::vector<ShelfState> shelves;
  if (!is_folder(home_.state)) return shelves;
  for (const auto& name : list_folder(home_.state)) {
    std::string folder = home_.state + "/" + name;
    bool is_one = name.ends_with(suffix) && is_uuid(name.substr(0, name.size() - suffix.size()));
    if (!is_one || !path_exists(folder + "/pin.json")) continue;
    try {
      ShelfRecord record =
          ShelfRecord::parse(read_file(folder + "/pin.json"), folder + "/pin.json");
      if (!job || record.job == *job) shelves.emplace_back(folder, std::move(record));
    } catch (const Error& error) {
      if (error.newer()) throw;  // not to be taken for a shelf that this PC does not know
      continue;
    }
  }
  return shelves;
}

void MachineState::set_aside(const ShelfState& state, Aside why) const {
  std::string to = home_.state + "/" + state.record.shelf + suffix_of(why);
  if (state.folder() == to) return;
  // Of a shelf that was let go of before, taken over by another PC and claimed again since.
  if (path_exists(to)) {
    int n = 2;
    while (path_exists(to + "." + std::to_string(n))) ++n;
    std::string older = to + "." + std::to_string(n);
    if (::rename(to.c_str(), older.c_str()) != 0) throw system_error(errno, to);
  }
  if (::rename(state.folder().c_str(), to.c_str()) != 0) throw system_error(errno, to);
  sync_folder(home_.state);
  if (why != Aside::kErased) return;
  for (const char* ending : kIndexFiles) ::unlink((to + "/index.sqlite" + ending).c_str());
}

std::vector<ShelfState> MachineState::aside(const std::string& job, Aside why) const {
  return read_states(job, suffix_of(why));
}

std::vector<ShelfState> MachineState::all_aside(const std::string& job) const {
  std::vector<ShelfState> all = aside(job, Aside::kDropped);
  for (ShelfState& state : aside(job, Aside::kErased)) all.push_back(std::move(state));
  return all;
}

bool MachineState::take_up(const std::string& shelf) const {
  std::string folder = home_.state + "/" + shelf, from = folder + suffix_of(Aside::kDropped);
  if (!path_exists(from) || path_exists(folder)) return false;
  if (::rename(from.c_str(), folder.c_str()) != 0) throw system_error(errno, from);
  sync_folder(home_.state);
  return true;
}

ShelfState MachineState::create(const ShelfRecord& record) const {
  std::string folder = home_.state + "/" + record.shelf;
  make_folders(folder);
  return ShelfState(folder, record);
}

}  // namespace kestrum
