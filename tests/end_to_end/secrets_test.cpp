// Where a passphrase or a key could be read by somebody else: files, the memory and environment of
// the running program and of what it starts, and what a thief of the PC's own state has.
#include <fcntl.h>
#include <gtest/gtest.h>
#include <sys/stat.h>
#include <unistd.h>

#include <filesystem>
#include <fstream>
#include <regex>
#include <sstream>

#include "kestrum/base/file.h"
#include "kestrum/crypto/age_stream.h"
#include "kestrum/job/edit_key.h"
#include "support/program.h"
#include "support/tree.h"

namespace kestrum::test {
namespace {

namespace fs = std::filesystem;

constexpr const char* kPassphrase = "violet ladder under nine lamps";
constexpr const char* kIdentity = "AGE-SECRET-KEY-";

// What sanitizers reserve is larger, and holds nothing of ours.
constexpr std::uint64_t kLargestMapping = std::uint64_t{4} << 30;

bool holds(const std::string& text, const std::string& part) {
  return text.find(part) != std::string::npos;
}

// Whether a process has this text anywhere in memory that it can write.
bool memory_holds(int process, const std::string& text) {
  std::string folder = "/proc/" + std::to_string(process);
  std::ifstream maps(folder + "/maps");
  Fd memory(::open((folder + "/mem").c_str(), O_RDONLY | O_CLOEXEC));
  EXPECT_TRUE(maps && memory);
  for (std::string line; std::getline(maps, line);) {
    std::size_t dash = line.find('-'), space = line.find(' ');
    if (line.substr(space + 1, 2) != "rw") continue;
    std::uint64_t at = std::stoull(line.substr(0, dash), nullptr, 16),
                  end = std::stoull(line.substr(dash + 1), nullptr, 16);
    if (end - at > kLargestMapping) continue;
    std::string piece(end - at, '\0');
    ssize_t n = ::pread(memory.get(), piece.data(), piece.size(), static_cast<off_t>(at));
    if (n > 0 && holds(piece.substr(0, static_cast<std::size_t>(n)), text)) return true;
  }
  return false;
}

class Secrets : public testing::Test {
 protected:
  void SetUp() override {
    desk.environment["KESTRUM_PASSPHRASE"] = kPassphrase;
    put_file(desk.source() + "/rota.csv", "week 1\n");
    put_file(desk.source() + "/canary-take.wav", noise(3'000'000, 1));
    desk.define();
  }
  void set_key(const std::string& key, const std::string& value) {
    std::string path = desk.folder / "home/jobs/desk.toml";
    write_file(path, edit_key(read_file(path), key, value));
  }
  // A restore that waits for somebody to take what it gives out; `look` is called with its process.
  void while_restoring(const std::vector<std::string>& more,
                       const std::function<void(int process)>& look) {
    std::string pipe = desk.folder / "pipe";
    ASSERT_EQ(::mkfifo(pipe.c_str(), 0600), 0);
    std::vector<std::string> argv = {"sh",
                                     "-c",
                                     "exec \"$@\" >" + shell_quoted(pipe),
                                     "sh",
                                     KESTRUM_PROGRAM,
                                     "restore",
                                     "desk",
                                     "canary-take.wav",
                                     "--to",
                                     "-"};
    argv.insert(argv.end(), more.begin(), more.end());
    Background restoring(argv, desk.environment);
    Fd out(::open(pipe.c_str(), O_RDONLY | O_CLOEXEC));
    char first = 0;
    ASSERT_EQ(::read(out.get(), &first, 1), 1) << restoring.output();
    ::usleep(200'000);  // until the pipe is full
    look(restoring.process());
    fs::remove(pipe);
  }
  Desk desk;
};

TEST_F(Secrets, AreNowhereInMemoryOnceTheShelfIsOpen) {
  ASSERT_EQ(desk.kestrum({"run", "desk"}).exit, 0);
  auto look = [](int process) {
    EXPECT_TRUE(memory_holds(process, "canary-take.wav")) << "what is there is found";
    EXPECT_FALSE(memory_holds(process, kPassphrase));
    EXPECT_FALSE(memory_holds(process, kIdentity));
  };
#if !defined(__SANITIZE_ADDRESS__)  // whose own code keeps a copy of the environment
  while_restoring({}, look);
#endif
  std::string file = desk.folder / "passphrase";
  write_file(file, kPassphrase + std::string("\n"));
  desk.environment["KESTRUM_PASSPHRASE"] = "";
  while_restoring({"--passphrase-from", file}, look);
}

TEST_F(Secrets, AreInNoProcessListEnvironmentOrCoreDump) {
  ASSERT_EQ(desk.kestrum({"run", "desk"}).exit, 0);
  while_restoring({}, [](int process) {
    std::string folder = "/proc/" + std::to_string(process);
    auto content = [&](const std::string& name) {
      std::ostringstream text;
      text << std::ifstream(folder + name).rdbuf();
      return text.str();
    };
    EXPECT_TRUE(holds(content("/cmdline"), "restore"));
    EXPECT_FALSE(holds(content("/cmdline"), kPassphrase));
    EXPECT_TRUE(holds(content("/environ"), "KESTRUM_HOME"));
    EXPECT_FALSE(holds(content("/environ"), kPassphrase));
    std::string limits = content("/limits");
    std::istringstream line(limits.substr(limits.find("Max core file size")));
    std::string word, soft, hard;
    line >> word >> word >> word >> word >> soft >> hard;
    EXPECT_EQ(soft, "0");
    EXPECT_EQ(hard, "0");
  });
}

// The system takes a process that must not be dumped from its user: not even the same user looks
// into it.
TEST_F(Secrets, AreNotToBeHadByAnotherProcessOfTheUser) {
#if defined(__SANITIZE_ADDRESS__)
  GTEST_SKIP() << "the sanitizer looks for leaks as a debugger would";
#endif
  if (::geteuid() != 0 || !have_program("setpriv")) GTEST_SKIP() << "needs root and setpriv";
  constexpr uid_t kSomebody = 4321;
  std::string home = desk.folder / "somebody";
  fs::create_directory(home);
  ASSERT_EQ(::chown(home.c_str(), kSomebody, kSomebody), 0);
  ASSERT_EQ(::chmod(desk.folder.path().c_str(), 0755), 0);
  Background staying({"setpriv", "--reuid", "4321", "--regid", "4321", "--clear-groups",
                      KESTRUM_PROGRAM, "run", "--stay"},
                     {{"KESTRUM_HOME", home}});
  std::string folder = "/proc/" + std::to_string(staying.process());
  auto owner_of = [&](const std::string& name) {
    struct stat st {};
    return ::stat((folder + name).c_str(), &st) == 0 ? st.st_uid : kSomebody;
  };
  EXPECT_TRUE(eventually([&] { return path_exists(home + "/state"); })) << staying.output();
  EXPECT_TRUE(holds(read_file(folder + "/status"), "Uid:\t4321")) << staying.output();
  EXPECT_EQ(owner_of("/environ"), 0U);
  EXPECT_EQ(owner_of("/mem"), 0U);
}

// The tests run a program that makes it cheap; this is the one that is installed.
TEST_F(Secrets, AreDearToGuessFromTheDisk) {
  Desk installed;
  installed.program = {KESTRUM_SHIPPED};
  installed.define();
  std::string armoured = read_file(installed.shelf() + "/keys/identity.age");
  Bytes file = age_dearmour(as_bytes(armoured), "identity.age");
  std::string head(file.begin(), file.begin() + 60);
  EXPECT_TRUE(std::regex_search(head, std::regex("\n-> scrypt [A-Za-z0-9+/]{22} 18\n"))) << head;
}

TEST_F(Secrets, AreNotGivenToTheJobsCommands) {
  std::string seen = desk.folder / "seen";
  set_key("before_run.command", "env >" + seen + "; tr '\\0' '\\n' </proc/$PPID/environ >>" + seen +
                                    "; tr '\\0' ' ' </proc/$PPID/cmdline >>" + seen);
  desk.environment["KESTRUM_NEXT_PASSPHRASE"] = "another made-up one";
  ASSERT_EQ(desk.kestrum({"run", "desk"}).exit, 0);
  std::string text = read_file(seen);
  EXPECT_TRUE(holds(text, "KESTRUM_HOST"));
  EXPECT_TRUE(holds(text, "run desk"));
  EXPECT_FALSE(holds(text, kPassphrase)) << text;
  EXPECT_FALSE(holds(text, "another made-up one")) << text;
}

TEST_F(Secrets, AreInNoFileAndFilesAreForTheOwnerOnly) {
  std::string scratch = desk.folder / "tmp";
  fs::create_directory(scratch);
  desk.environment["TMPDIR"] = scratch;
  ::umask(0);
  ASSERT_EQ(desk.kestrum({"run", "desk"}).exit, 0);
  ASSERT_EQ(desk.kestrum({"run", "desk", "--verbose"}).exit, 0);
  ASSERT_EQ(desk.kestrum({"restore", "desk", "rota.csv", "--to", desk.folder / "back"}).exit, 0);
  ASSERT_EQ(desk.kestrum({"drill", "desk", "--files", "1"}).exit, 0);
  ASSERT_EQ(desk.kestrum({"verify", "desk", "--contents"}).exit, 0);
  desk.environment["KESTRUM_PASSPHRASE"] = "wrong " + std::string(kPassphrase);
  ASSERT_EQ(desk.kestrum({"restore", "desk", "--to", desk.folder / "back"}).exit, 7);
  ::umask(022);
  int files = 0;
  for (const std::string& folder : {std::string(desk.folder / "home"), desk.disk(), scratch}) {
    for (const auto& entry : fs::recursive_directory_iterator(folder)) {
      if (entry.path() == desk.disk() + "/test-pc") continue;  // where other users' shelves lie too
      auto others = entry.status().permissions() & (fs::perms::group_all | fs::perms::others_all);
      bool mine = entry.path().string().starts_with(folder + "/");
      EXPECT_TRUE(others == fs::perms::none && mine) << entry.path();
      if (!entry.is_regular_file()) continue;
      ++files;
      std::string text = read_file(entry.path());
      EXPECT_FALSE(holds(text, kPassphrase)) << entry.path();
      EXPECT_FALSE(holds(text, kIdentity)) << entry.path();
    }
  }
  EXPECT_GT(files, 15);
  EXPECT_TRUE(fs::is_empty(scratch)) << "nothing is left for others to find";
}

// The PC with its jobs and its state is stolen, and the disk too; the passphrase is not.
TEST_F(Secrets, AFinderOfTheDiskLearnsNoNameAndNoWords) {
  ASSERT_EQ(desk.kestrum({"run", "desk"}).exit, 0);
  auto nothing_told = [&] {
    Ran found = run_program({"grep", "-rlaE", "canary|rota|/source", desk.shelf()});
    EXPECT_EQ(found.exit, 1) << found.out;
    Json last = Json::parse(read_file(desk.shelf() + "/last-run.json"));
    for (const char* key : {"reason", "suspect_why", "files"}) EXPECT_TRUE(last[key].is_null());
  };
  nothing_told();
  // The words that a failed run ends with, and those of a suspect one, name folders and files.
  fs::rename(desk.source(), desk.folder / "away");
  EXPECT_EQ(desk.kestrum({"run", "desk", "--kind", "full"}).exit, 3);
  nothing_told();
  fs::rename(desk.folder / "away", desk.source());
  for (int i = 0; i < 30; ++i) put_file(desk.source() + "/canary-" + std::to_string(i), "text");
  ASSERT_EQ(desk.kestrum({"run", "desk"}).exit, 0);
  for (int i = 0; i < 30; ++i) {
    put_file(desk.source() + "/canary-" + std::to_string(i),
             noise(3000, 50 + static_cast<unsigned>(i)));
  }
  Ran suspect = desk.kestrum({"run", "desk"});
  EXPECT_EQ(suspect.exit, 1);
  EXPECT_TRUE(holds(suspect.out + suspect.err, "SUSPECT")) << suspect.out;
  Json sets = desk.json({"sets", "desk"})["chains"][0]["sets"];
  EXPECT_NE(sets.back()["suspect_why"].get<std::string>().find("look"), std::string::npos)
      << "this PC knows why: " << sets.back();
  nothing_told();
}

TEST_F(Secrets, OfAStolenPcOpenNoOldSet) {
  ASSERT_EQ(desk.kestrum({"run", "desk"}).exit, 0);
  ASSERT_EQ(desk.kestrum({"run", "desk"}).exit, 0) << "which needs no passphrase";
  desk.environment["KESTRUM_PASSPHRASE"] = "";
  for (const std::vector<std::string>& words :
       {std::vector<std::string>{"restore", "desk", "--to", desk.folder / "out"},
        {"restore", "--shelf", desk.shelf(), "--to", desk.folder / "out"},
        {"verify", "desk", "--contents"},
        {"drill", "desk"},
        {"passphrase", "desk"}}) {
    EXPECT_EQ(desk.kestrum(words).exit, 7) << words[0];
  }
  EXPECT_FALSE(path_exists(desk.folder / "out"));
  // Nor does any key that lies about open a part with the standard tool.
  if (!have_program("age")) return;
  std::string part = desk.set_folder("c1-0") + "/part-000001.tar.zst.age";
  int tried = 0;
  for (const std::string& folder : {std::string(desk.folder / "home"), desk.shelf()}) {
    for (const auto& entry : fs::recursive_directory_iterator(folder)) {
      if (!entry.is_regular_file()) continue;
      ++tried;
      Ran ran = run_program({"age", "-d", "-i", entry.path(), "-o", "/dev/null", part});
      EXPECT_NE(ran.exit, 0) << entry.path();
    }
  }
  EXPECT_GT(tried, 10);
  desk.environment["KESTRUM_PASSPHRASE"] = kPassphrase;
  EXPECT_EQ(desk.kestrum({"restore", "desk", "--to", desk.folder / "out"}).exit, 0);
}

}  // namespace
}  // namespace kestrum::test
