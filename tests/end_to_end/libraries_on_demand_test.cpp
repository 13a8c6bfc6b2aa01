// Libraries that are loaded when they are needed.
#include <gtest/gtest.h>

#include <array>
#include <string>

#include "support/program.h"
#include "support/temp_folder.h"

namespace kestrum::test {
namespace {

// What few commands need is loaded by them alone.
TEST(LibrariesOnDemand, AreMissedOnlyByWhoSpeaksToAServerOfTheirProtocols) {
  Desk desk;
  for (const char* library : {"libcurl.so.4", "libssh.so.4"}) {
    put_file(desk.folder / "lib/" + library, "this is no library");
  }
  desk.environment["LD_LIBRARY_PATH"] = desk.folder / "lib";
  put_file(desk.source() + "/letter.txt", "dear all");
  desk.define();
  EXPECT_EQ(desk.kestrum({"run", "desk"}).exit, 0);
  for (auto [protocol, library, package] : {std::array{"webdav", "libcurl.so.4", "libcurl4"},
                                            std::array{"sftp", "libssh.so.4", "libssh-4"}}) {
    Ran ran =
        desk.kestrum({"job", "new", "other", "--from", desk.source(), "--to",
                      std::string(protocol) + "://127.0.0.1:9/place", "--protection", "none"});
    EXPECT_NE(ran.exit, 0);
    EXPECT_NE(ran.err.find(library), std::string::npos) << ran.err;
    EXPECT_NE(ran.err.find(std::string("apt-get install ") + package), std::string::npos)
        << ran.err;
  }
}

}  // namespace
}  // namespace kestrum::test
