// The Debian package: made, looked into, unpacked and run.
#include <gtest/gtest.h>

#include "kestrum/base/file.h"
#include "kestrum/base/text.h"
#include "support/program.h"

namespace kestrum::test {
namespace {

class Package : public testing::Test {
 protected:
  void SetUp() override {
    std::string build = parent_of(KESTRUM_PROGRAM);
    if (!path_exists(build + "/CPackConfig.cmake")) GTEST_SKIP() << "packages are release builds";
    for (const char* program : {"cpack", "dpkg-deb", "dpkg-shlibdeps"}) {
      if (!have_program(program)) GTEST_SKIP() << "no " << program << " here";
    }
    Ran made =
        run_script("cpack --config " + build + "/CPackConfig.cmake -B " + (folder / "made") +
                   " && dpkg-deb -x " + (folder / "made") + "/kestrum_*.deb " + (folder / "root"));
    ASSERT_EQ(made.exit, 0) << made.out << made.err;
    desk.program = {folder / "root/usr/bin/kestrum"};
  }
  std::string root(const std::string& path) { return folder / ("root/" + path); }
  TempFolder folder;
  Desk desk;
};

TEST_F(Package, RunsWhereItIsUnpacked) {
  put_file(desk.source() + "/rota.csv", "week 1\n");
  desk.define();
  EXPECT_EQ(desk.kestrum({"run", "desk"}).exit, 0);
  EXPECT_EQ(desk.kestrum({"restore", "desk", "--to", desk.folder / "out"}).exit, 0);
  EXPECT_EQ(read_file(desk.folder / "out/rota.csv"), "week 1\n");
}

TEST_F(Package, HoldsWhatAnAdministratorLooksFor) {
  for (const char* path :
       {"usr/share/man/man1/kestrum.1.gz", "usr/share/bash-completion/completions/kestrum",
        "usr/share/zsh/vendor-completions/_kestrum", "usr/lib/systemd/system/kestrum.service",
        "usr/lib/systemd/system/kestrum.timer", "usr/share/doc/kestrum/manual.md",
        "usr/share/doc/kestrum/format.md", "usr/share/doc/kestrum/by-hand.md",
        "usr/share/doc/kestrum/copyright", "usr/share/doc/kestrum/changelog.gz"}) {
    EXPECT_TRUE(path_exists(root(path))) << path;
  }
  std::string unit = read_file(root("usr/lib/systemd/system/kestrum.service"));
  // What a job's command mounts others must see, and it may use sudo.
  for (const char* hindrance :
       {"PrivateTmp", "PrivateMounts", "ProtectSystem", "NoNewPrivileges"}) {
    EXPECT_EQ(unit.find(hindrance), std::string::npos) << hindrance;
  }
  Ran scripts = run_script("dpkg-deb -e " + (folder / "made") + "/kestrum_*.deb " +
                           (folder / "control") + " && ls " + (folder / "control"));
  EXPECT_EQ(scripts.out, "control\nmd5sums\n") << "no script runs at an upgrade or a removal";
}

TEST_F(Package, HasAManualPageOfEveryCommand) {
  Ran page = run_script("gzip -dc " + root("usr/share/man/man1/kestrum.1.gz"));
  for (const char* command : {"job new", "job set", "shelf claim", "restore", "verify", "trace"}) {
    EXPECT_NE(page.out.find(std::string(".SS kestrum ") + command + "\n"), std::string::npos)
        << command;
  }
  for (const std::string& line : split(page.out, '\n')) {
    EXPECT_FALSE(line.starts_with("'")) << line;
  }
}

TEST_F(Package, CompletesCommandsJobsSetsPathsAndKeys) {
  put_file(desk.source() + "/Letters/one two.odt", "1");
  desk.define({"--protection", "none"});
  EXPECT_EQ(desk.kestrum({"run", "desk"}).exit, 0);
  auto complete = [&](std::vector<std::string> words) {
    words.insert(words.begin(), "--complete");
    return "\n" + desk.kestrum(words).out;
  };
  EXPECT_EQ(complete({"res"}), "\nrestore\n");
  EXPECT_EQ(complete({"shelf", "cl"}), "\nclaim\n");
  EXPECT_EQ(complete({"run", ""}), "\ndesk\n");
  EXPECT_EQ(complete({"restore", "desk", "--cla"}), "\n--clash\n");
  EXPECT_EQ(complete({"restore", "desk", "--clash", "bo"}), "\nboth\n");
  EXPECT_EQ(complete({"look", "desk", "--point", "c"}), "\nc1-0\n");
  EXPECT_EQ(complete({"job", "set", "desk", "keep.f"}), "\nkeep.for\n");
  EXPECT_EQ(complete({"look", "desk", "/"}), "\n" + desk.source() + "/\n");
  EXPECT_EQ(complete({"restore", "desk", desk.source() + "/L"}),
            "\n" + desk.source() + "/Letters/\n");
  EXPECT_EQ(complete({"restore", "desk", desk.source() + "/Letters/"}),
            "\n" + desk.source() + "/Letters/one two.odt\n");
  EXPECT_EQ(complete({"look", "nobody", "/"}), "\n");
  // By the shell itself.
  Ran shell = run_script("export PATH=" + root("usr/bin") + ":$PATH; . " +
                             root("usr/share/bash-completion/completions/kestrum") +
                             "; COMP_WORDS=(kestrum restore desk " + desk.source() +
                             "/Letters/o); COMP_CWORD=3; _kestrum 2>/dev/null; "
                             "printf '%s\\n' \"${COMPREPLY[@]}\"",
                         desk.environment);
  EXPECT_EQ(shell.out, desk.source() + "/Letters/one\\ two.odt\n") << shell.err;
}

TEST_F(Package, PleasesLintian) {
  if (!have_program("lintian")) GTEST_SKIP() << "no lintian here";
  Ran lint = run_script("lintian --fail-on error " + (folder / "made") + "/kestrum_*.deb");
  EXPECT_EQ(lint.exit, 0) << lint.out;
}

}  // namespace
}  // namespace kestrum::test
