// Files that move underfoot: whatever is done to them while they are read, the stream stays whole,
// what is stored is right or named, and the next run finds what it was.
#include <fcntl.h>
#include <gtest/gtest.h>
#include <unistd.h>

#include <filesystem>
#include <functional>

#include "kestrum/base/file.h"
#include "support/cut_run.h"
#include "support/program.h"
#include "support/tree.h"

namespace kestrum::test {
namespace {

namespace fs = std::filesystem;

class ChangingFiles : public testing::Test {
 protected:
  void SetUp() override {
    put_file(take(), noise(24'000'000, 1));
    put_file(desk.source() + "/zz-after", "what comes behind it\n");
    desk.define({"--protection", "none", "--part-size", "1 MB"});
  }
  std::string take() const { return desk.source() + "/take.wav"; }
  // Runs and does something when some of the large file is read, but not all of it.
  Json run_and(const std::function<void()>& what, int exit) {
    auto in_time = [&](const Background&) {
      EXPECT_LT(parts(), 14U) << "too late";
      what();
    };
    Ran ran = run_until(desk, "4 MB/s", [&] { return parts() >= 4; }, in_time, {"--json"});
    EXPECT_EQ(ran.exit, exit) << ran.out << ran.err;
    return Json::parse(ran.out)["runs"][0];
  }
  std::size_t parts() const {
    std::error_code error;
    std::size_t count = 0;
    for (const auto& file : fs::recursive_directory_iterator(desk.shelf() + "/sets", error)) {
      count += file.path().filename().string().starts_with("part-") ? 1 : 0;
    }
    return count;
  }
  void expect_sound_and_like_the_source() {
    EXPECT_EQ(desk.kestrum({"verify", "desk", "--contents"}).exit, 0);
    std::string back = desk.folder / "back";
    fs::remove_all(back);
    EXPECT_EQ(desk.kestrum({"restore", "desk", "--to", back, "--layout", "full"}).exit, 0);
    EXPECT_EQ(difference(tree_of(desk.source()), tree_of(back + desk.source())), "");
  }
  // The stream of the newest set as a plain program reads it.
  void expect_tar_reads_it() {
    if (!have_program("zstd")) return;
    Ran ran = run_script("cat " + shell_quoted(desk.set_folder("c1-0")) +
                         "/part-*.tar.zst | zstd -dc | tar -t");
    EXPECT_EQ(ran.exit, 0) << ran.err;
    EXPECT_NE(ran.out.find("zz-after"), std::string::npos) << ran.out;
  }
  Desk desk;
};

TEST_F(ChangingFiles, OneThatShrinksIsReadAgainAndComesBackAsItIsNow) {
  Json report = run_and([&] { fs::resize_file(take(), 3'000'000); }, 0);
  EXPECT_EQ(report["files"]["copied"], 2) << report;
  EXPECT_EQ(report["bytes"]["seen"], 3'000'000 + 21);
  expect_tar_reads_it();
  expect_sound_and_like_the_source();
}

TEST_F(ChangingFiles, OneThatIsEmptiedIsReadAgain) {
  run_and([&] { fs::resize_file(take(), 0); }, 0);
  expect_tar_reads_it();
  expect_sound_and_like_the_source();
}

TEST_F(ChangingFiles, OneThatIsOverwrittenBehindTheReaderIsReadAgain) {
  run_and(
      [&] {
        int fd = ::open(take().c_str(), O_WRONLY | O_CLOEXEC);
        ASSERT_EQ(::pwrite(fd, "changed at its beginning", 24, 1000), 24);
        ::close(fd);
      },
      0);
  expect_tar_reads_it();
  expect_sound_and_like_the_source();
}

TEST_F(ChangingFiles, OneThatIsReplacedByAnotherIsTakenAsItIsNow) {
  run_and(
      [&] {
        put_file(desk.source() + "/take.new", noise(2'000'000, 9));
        fs::rename(desk.source() + "/take.new", take());
      },
      0);
  expect_tar_reads_it();
  EXPECT_EQ(desk.json({"run", "desk"})["runs"][0]["files"]["failed"], 0);
  expect_sound_and_like_the_source();
}

TEST_F(ChangingFiles, OneThatVanishesIsNamedAndGoneAtTheNextRun) {
  Json report = run_and([&] { fs::remove(take()); }, 1);
  EXPECT_EQ(report["warnings"][0]["path"], take());
  EXPECT_NE(report["warnings"][0]["reason"].get<std::string>().find("changed while it was read"),
            std::string::npos);
  expect_tar_reads_it();
  EXPECT_EQ(desk.kestrum({"verify", "desk", "--contents"}).exit, 0);
  // As it was read, which was all of it: it was open.
  ASSERT_EQ(desk.kestrum({"restore", "desk", "take.wav", "--to", desk.folder / "out"}).exit, 0);
  EXPECT_EQ(read_file(desk.folder / "out/take.wav"), noise(24'000'000, 1));
  EXPECT_EQ(desk.json({"run", "desk"})["runs"][0]["files"]["gone"], 1);
  expect_sound_and_like_the_source();
}

TEST_F(ChangingFiles, OneThatBecomesAFolderOrALinkIsNotFollowed) {
  put_file(desk.folder / "elsewhere", "not of this job");
  Json report = run_and(
      [&] {
        fs::remove(take());
        fs::create_symlink(desk.folder / "elsewhere", take());
      },
      1);
  EXPECT_EQ(report["warnings"][0]["path"], take());
  expect_tar_reads_it();
  desk.json({"run", "desk"});
  expect_sound_and_like_the_source();
}

}  // namespace
}  // namespace kestrum::test
