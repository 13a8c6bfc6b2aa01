// Several users of one PC on one disk.
#include <gtest/gtest.h>
#include <sys/stat.h>
#include <unistd.h>

#include <filesystem>

#include "kestrum/base/file.h"
#include "support/program.h"

namespace kestrum::test {
namespace {

class SharedDisk : public testing::Test {
 protected:
  void SetUp() override {
    if (::geteuid() != 0 || !have_program("setpriv")) GTEST_SKIP() << "needs root and setpriv";
    user.become_nobody();
    ::chmod(user.folder.path().c_str(), 0755);
    ::chmod(root.folder.path().c_str(), 0755);
    for (Desk* desk : {&root, &user}) put_file(desk->source() + "/file.txt", "x");
    user.give_to_nobody();
  }
  int define(Desk& desk, const std::string& name) {
    return desk
        .kestrum({"job", "new", name, "--from", desk.source(), "--to", root.disk(), "--same-disk"})
        .exit;
  }
  mode_t mode(const std::string& path) {
    struct stat st {};
    EXPECT_EQ(::lstat(path.c_str(), &st), 0) << path;
    return st.st_mode & 07777;
  }
  Desk root, user;
};

TEST_F(SharedDisk, AUsersShelfLiesBesideRootsAndNeitherReadsTheOther) {
  ASSERT_EQ(define(root, "system"), 0);
  std::string host = root.disk() + "/test-pc";
  EXPECT_EQ(mode(host), 01777u);
  EXPECT_EQ(mode(host + "/system"), 0700u);
  ASSERT_EQ(define(user, "mine"), 0);
  EXPECT_EQ(mode(host + "/mine"), 0700u);
  EXPECT_EQ(root.kestrum({"run", "system"}).exit, 0);
  EXPECT_EQ(user.kestrum({"run", "mine"}).exit, 0);
  EXPECT_NE(user.kestrum({"look", "--shelf", host + "/system"}).exit, 0);
}

TEST_F(SharedDisk, EqualNamesOfTwoUsersAreToldApart) {
  ASSERT_EQ(define(root, "desk"), 0);
  Ran ran = user.kestrum(
      {"job", "new", "desk", "--from", user.source(), "--to", root.disk(), "--same-disk"});
  EXPECT_EQ(ran.exit, 2) << ran.err;
  EXPECT_NE(ran.err.find("another user"), std::string::npos) << ran.err;
  EXPECT_EQ(root.kestrum({"run", "desk"}).exit, 0);
}

// Who may write to a folder may exchange what is in it.
TEST_F(SharedDisk, RootTakesNoFolderThatAUserHasPutThere) {
  ASSERT_NE(define(user, "other"), 0) << "the disk's folder is root's: nothing is made there";
  ASSERT_EQ(define(root, "first"), 0);
  std::string planted = root.disk() + "/test-pc/desk";
  std::filesystem::create_directories(planted + "/sets");
  run_program({"chown", "-R", "65534:65534", planted});
  Ran ran = root.kestrum(
      {"job", "new", "desk", "--from", root.source(), "--to", root.disk(), "--same-disk"});
  EXPECT_EQ(ran.exit, 2) << ran.err;
  EXPECT_EQ(list_folder(planted), (std::vector<std::string>{"sets"}));
}

}  // namespace
}  // namespace kestrum::test
