// The engine in this process, on a desk: runs and restores without starting the program, and a
// model that remembers the whole tree at every restore point.
#pragma once

#include <map>
#include <set>
#include <span>
#include <string>
#include <vector>

#include "kestrum/access/job_reader.h"
#include "kestrum/backup/backup.h"
#include "kestrum/crypto/secret.h"
#include "kestrum/job/job_store.h"
#include "kestrum/restore/restore.h"
#include "support/program.h"
#include "support/tree.h"

namespace kestrum::test {

// Fails the test for every file that is not restored.
class QuietRestore : public RestoreObserver {
 public:
  void restored(const std::string&, const std::string&, EntryType, bool) override {}
  void skipped(const std::string& path, const std::string& to, const std::string& reason,
               bool already_right) override;
  void failed(const std::string& path, const std::string& reason, bool damage) override;
};

class EngineDesk {
 public:
  EngineDesk();
  ~EngineDesk();

  Job job() const { return JobStore(home).load("desk"); }
  MachineState machine() const { return MachineState(home); }
  Secret secret(const std::string& text) const { return Secret{std::string_view(text)}; }
  std::string passphrase() const { return desk.environment.at("KESTRUM_PASSPHRASE"); }
  // Wraps the identity of an encrypted shelf anew, so that opening it takes no time.
  void wrap_cheaply();
  RunReport run_once(const BackupOptions& options = {});
  // Makes a full set of a large file, of which a little is then another: the next set holds some
  // of its stretches.
  void change_a_large_file(std::size_t size);

  // The state and the disk as they are now, and put back so.
  void remember();
  void put_back();

  // The sealed sets of the shelf, read past any fault.
  std::set<std::string> sets() const;
  // Whatever is sealed and was not known holds what the source holds now.
  void learn();
  // Every set that was learned and still lies there comes back as it was: by this home, and by the
  // shelf's folder alone with an empty home.
  void expect_every_point();
  void expect_point(const std::string& set);
  // Restores all of the point that a TIME means (nothing: the newest), and gives back where the
  // source lies then.
  std::string restore(const ReadOptions& options, const Home& by,
                      const std::optional<std::string>& moment, RestoreObserver& told);
  // What the index claims is what the ledgers say.
  void expect_index_is_true();

  Desk desk;
  Home home;
  std::map<std::string, Tree> model;  // by set
};

// What a home's index claims of the shelf in a folder and its ledgers do not say. Nothing where
// there is no index yet, or where it was not told yet of sets that are pruned.
std::vector<std::string> index_differences(const Home& home, const std::string& shelf,
                                           std::span<const Identity> identities = {});

// Copies a folder with all in it, in the place of what is there.
void copy_tree(const std::string& from, const std::string& to);

}  // namespace kestrum::test
