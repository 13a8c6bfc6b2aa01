// The file transfer protocol of SSH: its packets, and servers that do it otherwise than most.
#include <gtest/gtest.h>

#include <memory>

#include "kestrum/base/clock.h"
#include "kestrum/base/error.h"
#include "kestrum/place/address.h"
#include "kestrum/remote/remote_place.h"
#include "kestrum/remote/sftp_wire.h"
#include "kestrum/remote/ssh_methods.h"
#include "support/servers.h"
#include "support/temp_folder.h"

namespace kestrum::test {
namespace {

// As section 5 of the protocol has them, each with and without what may be there.
TEST(SftpWire, AttributesAreReadUpToTheirEnd) {
  sftp::Body body;
  body.number(0x8000000f).long_number(5'000'000'000).number(1).number(2).number(040755);
  body.number(3).number(4).number(1).text("name").text("value").number(77);
  sftp::Fields fields(body.bytes());
  auto attributes = sftp::attributes_of(fields);
  ASSERT_TRUE(attributes.has_value());
  EXPECT_EQ(attributes->size, 5'000'000'000U);
  EXPECT_TRUE(attributes->is_folder());
  EXPECT_EQ(fields.number(), 77U) << "and no further";
  sftp::Body empty;
  sftp::Fields nothing(empty.number(0).bytes());
  attributes = sftp::attributes_of(nothing);
  ASSERT_TRUE(attributes.has_value());
  EXPECT_FALSE(attributes->size || attributes->mode || attributes->is_folder());
}

// Wherever it was cut off.
TEST(SftpWire, WhatIsNotWholeIsNothing) {
  sftp::Body names;
  names.number(2);
  for (const char* name : {"a", "b"}) {
    names.text(name).text("-rw------- a").number(5).long_number(3).number(0100600);
  }
  ASSERT_EQ(sftp::names_of(names.bytes())->at(1).name, "b");
  EXPECT_EQ(sftp::names_of(names.bytes())->at(1).attributes.size, 3U);
  sftp::Body version;
  version.text("fsync@openssh.com").text("1");
  EXPECT_TRUE(sftp::extensions_of(3, version.bytes())->contains("fsync@openssh.com"));
  EXPECT_FALSE(sftp::extensions_of(4, version.bytes()).has_value());
  sftp::Body disk;
  for (std::uint64_t value : {4096, 512, 1000, 600, 500}) disk.long_number(value);
  EXPECT_EQ(sftp::disk_of(disk.bytes())->free, 500U * 512);
  EXPECT_EQ(sftp::disk_of(disk.bytes())->total, 1000U * 512);
  auto none_of = [](ByteView whole, std::size_t from, auto parse) {
    for (std::size_t length = from; length < whole.size(); ++length) {
      EXPECT_FALSE(parse(whole.first(length)).has_value()) << length;
    }
  };
  none_of(names.bytes(), 0, sftp::names_of);
  none_of(disk.bytes(), 0, sftp::disk_of);
  none_of(version.bytes(), 1, [](ByteView body) { return sftp::extensions_of(3, body); });
  sftp::Body many;
  many.number(UINT32_MAX).number(UINT32_MAX);
  EXPECT_FALSE(sftp::names_of(many.bytes()).has_value());
}

// The quickest first, of which one cannot know which it is; the weakest last.
TEST(SshMethods, AreSoundOnes) {
  std::string codes = message_codes_by_speed();
  EXPECT_EQ(codes.find("hmac-sha2-"), 0U);
  EXPECT_TRUE(codes.ends_with(",hmac-sha2-512,hmac-sha1") ||
              codes.ends_with(",hmac-sha2-256,hmac-sha1"))
      << codes;
  std::string ciphers = ciphers_by_speed();
  EXPECT_EQ(ciphers.find("cbc"), std::string::npos) << ciphers;
  EXPECT_NE(ciphers.find("aes256-gcm@openssh.com"), std::string::npos) << ciphers;
  EXPECT_TRUE(ciphers.ends_with(",aes256-ctr,aes192-ctr,aes128-ctr")) << ciphers;
}

// Places on a server of SFTP of this machine that is set up in some way.
class SftpPlace : public testing::Test {
 protected:
  void SetUp() override {
    if (std::string why = Server::why_not(ServerKind::kSftp); !why.empty()) GTEST_SKIP() << why;
  }
  void TearDown() override {
    place.reset();
    if (!home.empty()) ::setenv("HOME", home.c_str(), 1);
    remote_context() = {};
  }
  void start(const std::string& configuration) {
    server = std::make_unique<Server>(ServerKind::kSftp, Server::Allows::kAll, configuration);
    server->introduce(desk);
    if (home.empty()) home = ::getenv("HOME") == nullptr ? "/" : ::getenv("HOME");
    ::setenv("HOME", desk.environment["HOME"].c_str(), 1);
    remote_context() = {};
    remote_context().patience = 0;
    connect();
  }
  void connect() { place = std::make_unique<RemotePlace>(parse_address(server->place())); }
  std::string home;
  Desk desk;
  std::unique_ptr<Server> server;
  std::unique_ptr<RemotePlace> place;
};

// As happens after much was sent (RFC 4253, section 9).
TEST_F(SftpPlace, NewKeysAreAgreedUponInBetween) {
  start("RekeyLimit 1M\n");
  const std::string large = noise(12'000'000, 3);
  write_small(*place, "large", large);
  EXPECT_TRUE(read_small(*place, "large", large.size()) == large);
  write_small(*place, "small", "dear all");
  EXPECT_EQ(read_small(*place, "small"), "dear all");
}

TEST_F(SftpPlace, MayBeOneWithoutExtensions) {
  start("Subsystem sftp internal-sftp -P fsync,statvfs,posix-rename\n");
  write_small(*place, "file", "dear all");
  EXPECT_EQ(read_small(*place, "file"), "dear all");
  EXPECT_FALSE(place->room().has_value()) << "nobody knows";
}

TEST_F(SftpPlace, MayBeOneThatTakesNoSecondChannel) {
  start("MaxSessions 1\n");
  const std::string large = noise(24'000'000, 5);
  write_small(*place, "large", large);
  EXPECT_TRUE(read_small(*place, "large", large.size()) == large);
}

// Each of them: what is read from a server is as little to be trusted as all that comes from
// elsewhere.
TEST_F(SftpPlace, AnswersThatAreNoneEndTheConnectionAndNothingElse) {
  const char* script = R"(
import os, struct, sys
how = open(sys.argv[1]).read()
def take(n):
    got = b''
    while len(got) < n:
        more = os.read(0, n - len(got))
        if not more: sys.exit()
        got += more
    return got
def packet(): return take(struct.unpack('>I', take(4))[0])
def put(kind, body): os.write(1, struct.pack('>IB', len(body) + 1, kind) + body)
text = lambda b: struct.pack('>I', len(b)) + b
number = lambda n: struct.pack('>I', n)
packet()
if how == 'noise': os.write(1, bytes(range(7, 250)) * 20)
put(2, number(2 if how == 'version' else 3) + (text(b'a') if how == 'extension' else b''))
while True:
    asked = packet()
    kind, which = asked[0], asked[1:5]
    if how == 'end': sys.exit()
    if how == 'number': put(101, number(4000000000) + number(0))
    elif how == 'length': os.write(1, b'\xff\xff\xff\xff')
    elif how == 'short': os.write(1, number(2) + b'ab')
    elif how == 'kind': put(250, which)
    elif how == 'status': put(101, which)
    elif how == 'fine': put(101, which + number(0) + text(b'') + text(b''))
    elif kind in (3, 11): put(102, which + (b'\0\0\0\x09a' if how == 'handle' else text(b'h')))
    elif kind == 17: put(105, which + (number(1) if how == 'attributes' else number(1) + bytes(7) + b'\x09'))
    elif kind == 8: put(105, which + number(0))
    elif kind == 12: put(104, which + (number(0xffffffff) + text(b'x')))
    elif how == 'long': put(103, which + text(bytes(40000)))
    elif how == 'empty': put(103, which + text(b''))
    elif how == 'cut': put(103, which + number(30000) + b'abc')
    elif how == 'twice': [put(103, which + text(b'abc')) for i in range(2)]
    else: put(101, which + number(1) + text(b'') + text(b''))
)";
  TempFolder folder;
  put_file(folder / "server.py", script);
  start("Subsystem sftp python3 -IS " + (folder / "server.py") + " " + (folder / "how") + "\n");
  for (const char* how :
       {"noise", "version", "extension", "end", "number", "length", "short", "kind", "status",
        "fine", "handle", "attributes", "long", "empty", "cut", "twice"}) {
    put_file(folder / "how", how);
    connect();
    try {
      place->exists("file");
      read_small(*place, "file");
      place->list("");
      ADD_FAILURE() << how;
    } catch (const Error& error) {
      EXPECT_EQ(error.kind(), ErrorKind::kPlace) << how << ": " << error.message();
    }
  }
}

}  // namespace
}  // namespace kestrum::test
