// A name of a file that vanishes between the look at it and its opening.
#include <gtest/gtest.h>

#include <filesystem>

#include "kestrum/base/file.h"
#include "kestrum/job/job_store.h"
#include "support/engine_desk.h"

namespace kestrum::test {
namespace {

namespace fs = std::filesystem;

// Removes `doomed` at the moment when the walk has seen it and the run has not opened it yet: the
// run asks whether to stop in between, for the first time since it told of the path before.
class Remover : public Observer {
 public:
  Remover(std::string before, std::string doomed)
      : before_(std::move(before)), doomed_(std::move(doomed)) {}
  void progress(const Progress& progress) override {
    armed_ = progress.phase == "copying" && progress.current == before_;
  }
  bool asked() {
    if (armed_) fs::remove(doomed_);
    armed_ = false;
    return false;
  }

 private:
  std::string before_, doomed_;
  bool armed_ = false;
};

class VanishingLink : public EngineDesk, public testing::Test {};

TEST_F(VanishingLink, DoesNotTakeTheFilesOtherNamesAlong) {
  put_file(desk.source() + "/a", "before it");
  put_file(desk.source() + "/b", "one file of three names");
  fs::create_hard_link(desk.source() + "/b", desk.source() + "/c");
  fs::create_hard_link(desk.source() + "/b", desk.source() + "/d");
  desk.define({"--protection", "none"});
  Remover remover(desk.source() + "/a", desk.source() + "/b");
  BackupOptions options;
  options.job_text = read_file(JobStore(home).path("desk"));
  options.stop = [&] { return remover.asked(); };
  RunReport report = run_backup(machine(), job(), options, Clock(), remover);
  ASSERT_TRUE(report.set) << report.reason;
  ASSERT_FALSE(path_exists(desk.source() + "/b")) << "the test is to remove it meanwhile";
  learn();
  expect_every_point();
}

}  // namespace
}  // namespace kestrum::test
