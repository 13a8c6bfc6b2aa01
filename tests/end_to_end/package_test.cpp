// The Debian package: made, looked into, unpacked and run.
#include <gtest/gtest.h>
#include <unistd.h>

#include "kestrum/base/file.h"
#include "kestrum/base/text.h"
#include "support/program.h"

namespace kestrum::test {
namespace {

class Package : public testing::Test {
 protected:
  void SetUp() override {
    std::string build = parent_of(KESTRUM_SHIPPED);
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

// As an administrator does it: installed with what it depends on, used, installed once more over
// itself, removed, purged. What was defined and written stays.
TEST_F(Package, IsInstalledUpgradedAndPurgedInAFreshRoot) {
  if (::geteuid() != 0) GTEST_SKIP() << "needs root";
  if (!have_program("debootstrap")) GTEST_SKIP() << "no debootstrap here";
  std::string fresh = folder / "fresh";
  Ran made = run_script("timeout 400 debootstrap --variant=minbase --merged-usr bookworm " + fresh);
  if (made.exit != 0) GTEST_SKIP() << "no fresh system can be had here: " << made.out << made.err;
  auto in_root = [&](const std::string& script) {
    // What is mounted goes with the namespace.
    return run_program({"unshare", "--mount", "sh", "-euc",
                        "mount -t proc proc \"$1\"/proc; exec chroot \"$1\" /usr/bin/env -i "
                        "PATH=/usr/sbin:/usr/bin:/sbin:/bin DEBIAN_FRONTEND=noninteractive "
                        "KESTRUM_PASSPHRASE='salt and sand 12' sh -euc \"$2\"",
                        "sh", fresh, script});
  };
  std::string package =
      split(run_script("ls " + (folder / "made") + "/kestrum_*.deb").out, '\n')[0];
  if (in_root("true").exit != 0) GTEST_SKIP() << "nothing can be mounted here";
  put_file(fresh + "/root/kestrum.deb", read_file(package));
  Ran ran = in_root("timeout 400 apt-get install -y -q --no-install-recommends /root/kestrum.deb");
  if (ran.err.find("Failed to fetch") != std::string::npos) GTEST_SKIP() << ran.err;
  ASSERT_EQ(ran.exit, 0) << ran.out << ran.err;
  ran = in_root(
      "mkdir -p /srv/desk /srv/disk; echo 'week 1' >/srv/desk/rota.csv;"
      "kestrum job new desk --from /srv/desk --to /srv/disk --protection passphrase "
      "--same-disk; kestrum run desk;"
      "kestrum restore desk rota.csv --to /srv/out; cat /srv/out/rota.csv");
  EXPECT_EQ(ran.exit, 0) << ran.out << ran.err;
  EXPECT_TRUE(ran.out.ends_with("week 1\n")) << ran.out;
  EXPECT_FALSE(path_exists(fresh + "/etc/systemd/system/timers.target.wants/kestrum.timer"))
      << "nothing runs until it is asked for";
  ran = in_root("dpkg -i /root/kestrum.deb && kestrum run desk && kestrum verify desk");
  EXPECT_EQ(ran.exit, 0) << ran.out << ran.err;
  ran = in_root("dpkg -r kestrum && ! command -v kestrum && dpkg -P kestrum");
  EXPECT_EQ(ran.exit, 0) << ran.out << ran.err;
  EXPECT_TRUE(path_exists(fresh + "/etc/kestrum/jobs/desk.toml"));
  EXPECT_TRUE(path_exists(fresh + "/var/lib/kestrum"));
  EXPECT_FALSE(path_exists(fresh + "/usr/share/doc/kestrum"));
}

TEST_F(Package, PleasesLintian) {
  if (!have_program("lintian")) GTEST_SKIP() << "no lintian here";
  Ran lint = run_script("lintian --fail-on error " + (folder / "made") + "/kestrum_*.deb");
  EXPECT_EQ(lint.exit, 0) << lint.out;
}

}  // namespace
}  // namespace kestrum::test
