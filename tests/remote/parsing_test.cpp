// What comes from servers and from places.toml, good and bad.
#include <gtest/gtest.h>
#include <sys/stat.h>

#include <filesystem>

#include "kestrum/base/error.h"
#include "kestrum/base/file.h"
#include "kestrum/remote/host_key.h"
#include "kestrum/remote/remote_settings.h"
#include "kestrum/remote/webdav_store.h"
#include "support/program.h"
#include "support/temp_folder.h"

namespace kestrum::test {
namespace {

TEST(Multistatus, TellsOfMembersWhateverTheirPrefixes) {
  std::string xml =
      "<?xml version=\"1.0\"?><D:multistatus xmlns:D=\"DAV:\" xmlns:n=\"DAV:\">"
      "<D:response><D:href>/place/</D:href><D:propstat><D:prop><D:resourcetype><D:collection/>"
      "</D:resourcetype><n:quota-available-bytes>1234</n:quota-available-bytes></D:prop>"
      "</D:propstat></D:response>"
      "<D:response><D:href>https://host:44/place/a%20b</D:href><D:propstat><D:prop>"
      "<D:resourcetype/><n:getcontentlength> 77 </n:getcontentlength></D:prop></D:propstat>"
      "</D:response>"
      "<response xmlns=\"DAV:\"><href>/place/sub/</href><propstat><prop><resourcetype>"
      "<collection/></resourcetype></prop></propstat></response></D:multistatus>";
  auto members = parse_multistatus(xml, "/place", false, "x");
  ASSERT_EQ(members.size(), 2U);
  EXPECT_EQ(members[0].entry.name, "a b");
  EXPECT_EQ(members[0].entry.size, 77U);
  EXPECT_FALSE(members[0].entry.is_folder);
  EXPECT_EQ(members[1].entry.name, "sub");
  EXPECT_TRUE(members[1].entry.is_folder);
  auto itself = parse_multistatus(xml, "/place", true, "x");
  ASSERT_EQ(itself.size(), 1U);
  EXPECT_EQ(itself[0].available, 1234U);
}

TEST(Multistatus, ThatIsNoneIsRefusedAndEndsNothing) {
  for (const char* bad : {"", "<", "<html><body>hello</body></html>", "plain text",
                          "<D:multistatus xmlns:D=\"DAV:\"><D:response>",
                          "<!DOCTYPE a [<!ENTITY b \"c\">]><multi>&b;</multi>"}) {
    EXPECT_THROW(parse_multistatus(bad, "/place", false, "x"), Error) << bad;
  }
  // Numbers that are none, and names that are none, are left out or nothing.
  auto odd = parse_multistatus(
      "<multistatus><response><href>/place/a</href><propstat><prop><getcontentlength>"
      "99999999999999999999999</getcontentlength></prop></propstat></response></multistatus>",
      "/place", false, "x");
  ASSERT_EQ(odd.size(), 1U);
  EXPECT_EQ(odd[0].entry.size, 0U);
  EXPECT_THROW(parse_multistatus("<multistatus><response><href>/place/%zz</href></response>"
                                 "</multistatus>",
                                 "/place", false, "x"),
               Error);
}

TEST(HostKeys, AreToldAsSshKeygenDoes) {
  if (!have_program("ssh-keygen")) GTEST_SKIP() << "no ssh-keygen here";
  TempFolder folder;
  for (const char* kind : {"ed25519", "ecdsa", "rsa"}) {
    std::string file = folder / kind;
    run_script("ssh-keygen -q -t " + std::string(kind) + " -N '' -f " + file);
    std::string blob = run_script("cut -d' ' -f2 " + file + ".pub | base64 -d").out;
    RemoteAddress address = parse_address("sftp://host.example.org:2222/x");
    HostKey key = host_key(address, blob);
    std::string line = run_script("cut -d' ' -f1,2 " + file + ".pub").out;
    EXPECT_EQ(key.kind + " " + key.key + "\n", line);
    EXPECT_NE(run_script("ssh-keygen -lf " + file + ".pub").out.find(key.fingerprint),
              std::string::npos);
    std::string known = folder / "ssh/known_hosts";
    put_file(folder / "known", "no end of line");
    add_known_host(folder / "known", key);
    add_known_host(known, key);
    for (const std::string& path : {known, folder / "known"}) {
      EXPECT_EQ(run_script("ssh-keygen -F '[host.example.org]:2222' -f " + path).exit, 0) << path;
    }
  }
  EXPECT_EQ(read_file(folder / "known").find("no end of line\n"), 0U);
  RemoteAddress usual = parse_address("sftp://host/x");
  for (const std::string& bad : {std::string(), std::string("\0\0", 2), std::string("\0\0\1\0", 4),
                                 std::string("\xff\xff\xff\xff", 4)}) {
    EXPECT_THROW(host_key(usual, bad), Error);
  }
}

class PlacesFile : public testing::Test {
 protected:
  void SetUp() override { remote_context().settings_file = folder / "places.toml"; }
  void TearDown() override { remote_context() = {}; }
  RemoteSettings settings_of(const std::string& text, const std::string& address) {
    put_file(folder / "places.toml", text, 0600);
    return remote_settings(parse_address(address));
  }
  std::string refusal_of(const std::string& text) {
    try {
      settings_of(text, "sftp://host/x");
      ADD_FAILURE() << "taken: " << text;
      return "";
    } catch (const Error& error) {
      EXPECT_EQ(error.kind(), ErrorKind::kUsage);
      return error.message() + " " + error.hint();
    }
  }
  TempFolder folder;
};

TEST_F(PlacesFile, AreFoundByHostAndPort) {
  const std::string text =
      "[host]\nuser = \"a\"\n[\"host:22\"]\nuser = \"b\"\n[\"far.example.org\"]\nuser = \"c\"\n";
  EXPECT_EQ(settings_of(text, "sftp://host/x").user, "a");
  EXPECT_EQ(settings_of(text, "sftp://host:22/x").user, "b");
  EXPECT_EQ(settings_of(text, "sftp://host:23/x").user, "a");
  EXPECT_EQ(settings_of(text, "sftp://FAR.example.org/x").user, "c");
  EXPECT_EQ(settings_of(text, "sftp://other/x").user, "");
  std::filesystem::remove(folder / "places.toml");
  EXPECT_EQ(remote_settings(parse_address("sftp://host/x")).user, "");
}

TEST_F(PlacesFile, ThatAreWrongAreNamed) {
  EXPECT_NE(refusal_of("[host]\ncolour = \"blue\"\n").find("host.colour: no such key"),
            std::string::npos);
  EXPECT_NE(refusal_of("[host]\npassword = \"blue\"\n").find("password_from"), std::string::npos);
  EXPECT_EQ(refusal_of("[host]\npassword = \"blue\"\n").find("blue"), std::string::npos);
  EXPECT_NE(refusal_of("[host]\nkey = \"id\"\n").find("absolute"), std::string::npos);
  EXPECT_NE(refusal_of("[host]\nuser = 5\n").find("must be a text"), std::string::npos);
  EXPECT_NE(refusal_of("user = \"a\"\n").find("must be a table"), std::string::npos);
  EXPECT_NE(refusal_of("[host\n").find("line 1"), std::string::npos);
  // A host's name without quotes is taken for tables in tables.
  EXPECT_NE(refusal_of("[far.example.org]\nuser = \"a\"\n").find("in quotes"), std::string::npos);
}

}  // namespace
}  // namespace kestrum::test
