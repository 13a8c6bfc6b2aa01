// What will not work when nobody types is told when somebody does.
#include <gtest/gtest.h>
#include <unistd.h>

#include <filesystem>

#include "demo/mail_catcher.h"
#include "kestrum/base/file.h"
#include "support/program.h"

namespace kestrum::test {
namespace {

namespace fs = std::filesystem;

class Unattended : public testing::Test {
 protected:
  // What `job check` says of a job with this in its file.
  std::string check(const std::string& more) {
    std::string path = desk.folder / "home/jobs/desk.toml";
    if (good.empty()) good = read_file(path);
    put_file(path, good + "\n" + more);
    return desk.kestrum({"job", "check", "desk"}).out;
  }
  void SetUp() override {
    put_file(desk.source() + "/file", "x");
    desk.define({"--protection", "none"});
  }
  Desk desk;
  std::string good;
};

TEST_F(Unattended, CommandsAreLookedForWhereATimerLooks) {
  std::string elsewhere = desk.folder / "bin";
  put_file(elsewhere + "/bring-disk", "#!/bin/sh\n");
  run_program({"chmod", "+x", elsewhere + "/bring-disk"});
  std::string path = std::getenv("PATH");
  desk.environment["PATH"] = elsewhere + ":" + path;  // as the person has it, who types
  std::string said = check("[before_run]\ncommand = \"bring-disk --now\"\n");
  EXPECT_NE(said.find("by a timer or cron: bring-disk: not found in PATH="), std::string::npos)
      << said;
  said = check("[before_run]\ncommand = \"" + elsewhere + "/bring-disk --now\"\n");
  EXPECT_EQ(said.find("by a timer"), std::string::npos) << said;
  said = check("[after_run]\ncommand = \"~/bin/tell\"\n");
  EXPECT_NE(said.find("after_run.command: by a timer or cron: ~/bin/tell: ~ stands for nothing"),
            std::string::npos)
      << said;
  said = check("[before_run]\ncommand = \"if true; then echo; \"\n");
  EXPECT_NE(said.find("no command of a shell"), std::string::npos) << said;
  for (const char* fine : {"LANG=C sort /dev/null", "cd /tmp && true", "[ -e /tmp ] || exit 1",
                           "{ true; }", "test -e /tmp; true"}) {
    said = check(std::string("[before_run]\ncommand = \"") + fine + "\"\n");
    EXPECT_EQ(said.find("by a timer"), std::string::npos) << fine << said;
  }
}

TEST_F(Unattended, ADrillNeedsASecretThatLiesInAFile) {
  desk.kestrum({"job", "new", "kept", "--from", desk.source(), "--to", desk.folder / "other",
                "--same-disk"});
  ASSERT_EQ(desk.kestrum({"job", "set", "kept", "checks.drill_when", "every sunday at 10:00"}).exit,
            0);
  std::string said = desk.kestrum({"job", "check", "kept"}).out;
  EXPECT_NE(said.find("a drill needs protection.passphrase_from"), std::string::npos) << said;
  ASSERT_EQ(desk.kestrum({"job", "set", "kept", "protection.passphrase_from", "/not/there"}).exit,
            0);
  said = desk.kestrum({"job", "check", "kept"}).out;
  EXPECT_NE(said.find("/not/there: No such file"), std::string::npos) << said;
}

TEST_F(Unattended, PlacesAreLookedForAsATimerDoes) {
  EXPECT_EQ(check("").find("by a timer"), std::string::npos);
  fs::rename(desk.disk(), desk.folder / "drawer");
  std::string said = check("");
  EXPECT_NE(said.find("destination.places: by a timer or cron: "), std::string::npos) << said;
  EXPECT_EQ(said.find("not plugged in"), said.rfind("not plugged in")) << "said twice: " << said;
  // Disks that take turns are not there at once.
  fs::create_directories(desk.folder / "second");
  desk.kestrum({"job", "set", "desk", "destination.places", desk.disk(), desk.folder / "second"});
  good.clear();
  ASSERT_EQ(
      desk.kestrum({"shelf", "start", "desk", "--at", desk.folder / "second", "--same-disk"}).exit,
      0);
  EXPECT_EQ(check("").find("by a timer"), std::string::npos) << check("");
}

// Only somebody else than root is kept from writing, or a disk that is mounted for reading.
TEST_F(Unattended, APlaceThatCannotBeWrittenToIsTold) {
  if (::geteuid() != 0) GTEST_SKIP() << "mounting needs root";
  std::string disk = desk.disk();
  if (run_script("mount --bind " + disk + " " + disk + " && mount -o remount,ro,bind " + disk)
          .exit != 0) {
    GTEST_SKIP() << "no bind mounts here";
  }
  std::string said = check("");
  run_script("umount " + disk);
  EXPECT_NE(said.find("cannot be written to: Read-only file system"), std::string::npos) << said;
}

TEST_F(Unattended, AShareOfASessionIsTold) {
  desk.kestrum(
      {"job", "set", "desk", "destination.places", desk.disk(), "/run/user/1000/gvfs/share"});
  std::string said = check("");
  EXPECT_NE(said.find("is there only while somebody is logged in"), std::string::npos) << said;
}

TEST_F(Unattended, TheMailServerIsAsked) {
  demo::MailCatcher server;
  const std::string mail = "[report]\nmail_to = [\"support@example.org\"]\n";
  auto settings = [&](const std::string& url) {
    write_file(desk.folder / "home/mail.toml",
               "server = \"" + url + "\"\nfrom = \"b@example.org\"\ntls = \"off\"\n");
  };
  settings(server.url());
  EXPECT_EQ(check(mail).find("mail.toml"), std::string::npos);
  EXPECT_EQ(server.mails().size(), 0U);
  settings("smtp://127.0.0.1:1");
  EXPECT_NE(check(mail).find("mail.toml: smtp://127.0.0.1:1: "), std::string::npos);
}

}  // namespace
}  // namespace kestrum::test
