// A place on each kind of server: the calls of Place, one by one, and what is left when the
// connection breaks between them.
#include "kestrum/remote/remote_place.h"

#include <gtest/gtest.h>
#include <sys/mount.h>

#include <atomic>
#include <filesystem>
#include <fstream>
#include <sstream>

#include "kestrum/archive/read_behind.h"
#include "kestrum/base/clock.h"
#include "kestrum/base/error.h"
#include "support/servers.h"
#include "support/temp_folder.h"

namespace kestrum::test {
namespace {

namespace fs = std::filesystem;

std::string content_of(const std::string& path) {
  std::ifstream in(path, std::ios::binary);
  return {std::istreambuf_iterator<char>(in), {}};
}

class RemotePlaceOn : public testing::TestWithParam<ServerKind> {
 protected:
  void SetUp() override {
    if (std::string why = Server::why_not(GetParam()); !why.empty()) GTEST_SKIP() << why;
    start();
  }
  void start(Server::Allows allows = Server::Allows::kAll) {
    server = std::make_unique<Server>(GetParam(), allows);
    proxy = std::make_unique<Proxy>(server->port());
    server->introduce(desk, proxy.get());
    home = ::getenv("HOME") == nullptr ? "" : ::getenv("HOME");
    ::setenv("HOME", desk.environment["HOME"].c_str(), 1);
    remote_context() = {};
    remote_context().settings_file = desk.environment["KESTRUM_HOME"] + "/places.toml";
    remote_context().patience = 20 * kSecond;
    place = std::make_unique<RemotePlace>(parse_address(server->place(proxy.get())));
  }
  void TearDown() override {
    if (server) ::setenv("HOME", home.c_str(), 1);
    remote_context() = {};
  }
  void write(const std::string& path, const std::string& text) const {
    auto file = place->create(path);
    file->write(as_bytes(text));
    file->sync();
  }
  std::string read(const std::string& path) const { return read_small(*place, path, 1 << 28); }

  std::string home;
  Desk desk;
  std::unique_ptr<Server> server;
  std::unique_ptr<Proxy> proxy;
  std::unique_ptr<RemotePlace> place;
};

TEST_P(RemotePlaceOn, TakesAndGivesFiles) {
  write("empty", "");
  write("small", "a letter");
  std::string large = noise(20'000'000, 3);
  write("large one", large);
  EXPECT_EQ(content_of(server->folder() + "/large one"), large);
  EXPECT_EQ(read("empty"), "");
  EXPECT_EQ(read("small"), "a letter");
  EXPECT_TRUE(read("large one") == large);
  auto source = place->open("large one", true);
  Bytes some(70'000);
  for (std::size_t at : {19'000'000, 5, 8'000'000, 8'070'000}) {
    source->read_at(at, some);
    EXPECT_TRUE(as_text(some) == std::string_view(large).substr(at, some.size())) << at;
  }
  EXPECT_THROW(source->read_at(large.size() - 5, some), Error);
  write("small", "another");
  EXPECT_EQ(read("small"), "another");
  EXPECT_TRUE(place->exists("small"));
  EXPECT_FALSE(place->exists("smaller"));
  EXPECT_THROW(place->open("smaller", false), Error);
  place->remove_file("small");
  place->remove_file("small");
  EXPECT_FALSE(place->exists("small"));
}

TEST_P(RemotePlaceOn, HasFolders) {
  EXPECT_TRUE(place->list("nowhere").empty());
  place->make_folder("a/b/c d");
  place->make_folder("a/b/c d");
  EXPECT_TRUE(place->exists("a/b"));
  EXPECT_TRUE(place->list("a/b/c d").empty());
  write("a/b/c d/x", "1");
  write("a/file", "four");
  auto entries = place->list("a");
  ASSERT_EQ(entries.size(), 2U);
  EXPECT_EQ(entries[0].name, "b");
  EXPECT_TRUE(entries[0].is_folder);
  EXPECT_EQ(entries[1].name, "file");
  EXPECT_FALSE(entries[1].is_folder);
  EXPECT_EQ(entries[1].size, 4U);
  ASSERT_EQ(place->list("a/b").size(), 1U);
  EXPECT_EQ(place->list("a/b")[0].name, "c d");
  place->rename("a/b", "a/moved");
  EXPECT_EQ(read("a/moved/c d/x"), "1");
  EXPECT_FALSE(place->exists("a/b"));
  place->remove_folder("a");
  EXPECT_FALSE(place->exists("a"));
  place->remove_folder("a");
}

TEST_P(RemotePlaceOn, ReplacesAFileAsAWhole) {
  write("label", "old");
  write("label.new", "new");
  place->rename("label.new", "label");
  EXPECT_EQ(read("label"), "new");
  EXPECT_FALSE(place->exists("label.new"));
  EXPECT_EQ(place->list("").size(), 1U);
  // As a cut in the middle leaves it: nothing has happened yet.
  fs::rename(server->folder() + "/label", server->folder() + "/label.old");
  write("label.new", "newer");
  EXPECT_TRUE(place->exists("label"));
  EXPECT_EQ(read("label"), "new");
  ASSERT_EQ(place->list("").size(), 2U);
  EXPECT_EQ(place->list("")[0].name, "label");
  place->rename("label.new", "label");
  EXPECT_EQ(read("label"), "newer");
  // A cut after it: what is left over is shown to nobody.
  put_file(server->folder() + "/label.old", "stale");
  EXPECT_EQ(place->list("").size(), 1U);
  EXPECT_EQ(read("label"), "newer");
  place->remove_file("label");
  EXPECT_FALSE(place->exists("label"));
}

TEST_P(RemotePlaceOn, GetsThingsAheadAndForgetsThemWhenTheyChange) {
  for (const char* name : {"a", "b", "c"}) write(name, name);
  place->make_folder("folder");
  write("folder/x", "1");
  auto ahead = [&] { place->fetch_ahead({"a", "b", "c", "nowhere", "a.new"}, {"folder", "none"}); };
  ahead();
  // They are there now: nothing is asked of the server.
  proxy->tell("down");
  EXPECT_EQ(read("a"), "a");
  EXPECT_FALSE(place->exists("nowhere"));
  EXPECT_EQ(place->list("folder").size(), 1U);
  EXPECT_TRUE(place->list("none").empty());
  proxy->tell("up");
  // Once each: who asks again is told what is there now.
  put_file(server->folder() + "/a", "another");
  EXPECT_EQ(read("a"), "another");
  ahead();
  write("folder/y", "2");
  put_file(server->folder() + "/b", "of another");
  EXPECT_EQ(place->list("folder").size(), 2U);
  EXPECT_EQ(read("b"), "of another");
}

TEST_P(RemotePlaceOn, WaitsForAServerThatIsAway) {
  write("before", "1");
  proxy->tell("down");
  std::thread later([&] {
    ::usleep(2'500'000);
    proxy->tell("up");
  });
  EXPECT_NO_THROW(EXPECT_EQ(read("before"), "1"));
  later.join();
}

TEST_P(RemotePlaceOn, GivesUpWhenPatienceEnds) {
  write("before", "1");
  remote_context().patience = kSecond;
  proxy->tell("down");
  try {
    read("before");
    FAIL() << "nobody was there";
  } catch (const Error& error) {
    EXPECT_EQ(error.kind(), ErrorKind::kPlace) << error.message();
    EXPECT_TRUE(error.worth_waiting());
  }
  std::atomic<bool> stop = false;
  remote_context().patience = kHour;
  remote_context().stopped = [&] { return stop.load(); };
  std::thread later([&] {
    ::usleep(1'000'000);
    stop = true;
  });
  try {
    read("before");
    FAIL() << "nobody was there";
  } catch (const Error& error) {
    EXPECT_EQ(error.kind(), ErrorKind::kStopped) << error.message();
  }
  later.join();
}

TEST_P(RemotePlaceOn, GoesOnWhereTheConnectionBroke) {
  std::string large = noise(30'000'000, 5);
  for (int at : {3'000'000, 12'345'678, 25'000'000}) {
    proxy->tell("drop");
    proxy->tell("cut-once " + std::to_string(at));
    proxy->tell("counted");
    std::string name = "file" + std::to_string(at);
    write(name, large);
    EXPECT_TRUE(content_of(server->folder() + "/" + name) == large) << at;
    // Data of FTP go beside the proxy: what breaks there is the connection of commands.
    EXPECT_GE(std::stoi(proxy->tell("counted")), GetParam() == ServerKind::kFtps ? 1 : 2) << at;
  }
  proxy->tell("cut " + std::to_string(large.size() / 5));
  proxy->tell("drop");
  EXPECT_TRUE(read("file3000000") == large);
}

// By SFTP in one go, through breaks as well.
TEST_P(RemotePlaceOn, GivesBackWhileItIsWritten) {
  constexpr unsigned kBlocks = 40;
  std::string block = noise(1 << 20, 4);
  for (const char* trouble : {"", "cut-once 15000000"}) {
    proxy->tell("drop");
    if (*trouble != 0) proxy->tell(trouble);
    auto file = place->create("file");
    ReadBehind behind(*place, "file");
    BlockDigester digester;
    for (std::uint64_t number = 1; number <= kBlocks; ++number) {
      block[0] = static_cast<char>(number);
      file->write(as_bytes(block));
      digester.update(as_bytes(block));
      behind.written(number << 20);
    }
    file->sync();
    bool gave_back = behind.gave_back(std::uint64_t{kBlocks} << 20, digester.finish());
    EXPECT_TRUE(gave_back || GetParam() != ServerKind::kSftp) << trouble;
  }
  bool followed = place->follow("file", {[](std::uint64_t at) { return at; }, {}, {}});
  EXPECT_EQ(followed, GetParam() == ServerKind::kSftp);
}

// Wherever a connection breaks, what was asked for is done when the call returns. A sample of the
// places; KESTRUM_CUT_STRIDE says how many bytes apart they lie.
TEST_P(RemotePlaceOn, DoesEachThingThroughABreakAnywhere) {
  write("old name", "here");
  place->make_folder("full");
  std::string from = "old name", to = "new name";
  auto do_each = [&] {
    place->rename(from, to);
    std::swap(from, to);
    EXPECT_FALSE(place->exists(to));
    EXPECT_EQ(place->open(from, true)->size(), 4U);
    EXPECT_EQ(read(from), "here");
    place->make_folder("full/folder");
    write("full/file", "more");
    EXPECT_EQ(place->list("full").size(), 2U);
    place->remove_file("full/file");
    place->remove_folder("full/folder");
  };
  proxy->tell("drop");
  proxy->tell("counted");
  do_each();
  std::istringstream counted(proxy->tell("counted"));
  int connections = 0, all = 0;
  counted >> connections >> all;
  const char* said = std::getenv("KESTRUM_CUT_STRIDE");
  int stride = said == nullptr ? all / 8 : std::atoi(said);
  for (int at = stride / 2; at < all; at += stride) {
    SCOPED_TRACE("cut at " + std::to_string(at) + " of " + std::to_string(all));
    proxy->tell("drop");
    proxy->tell("cut-once " + std::to_string(at));
    ASSERT_NO_THROW(do_each());
    ASSERT_TRUE(place->list("full").empty());
  }
}

// By an account that may not: what is replaced stays aside, and the newest of it is read where a
// cut left nothing else.
TEST_P(RemotePlaceOn, DoesWithoutRemoving) {
  EXPECT_TRUE(place->may_remove());
  EXPECT_EQ(place->list("").size(), 0U) << "nothing is left of trying";
  TearDown();
  start(Server::Allows::kNoRemoval);
  for (const char* text : {"one", "two", "three", "four"}) write_small(*place, "file", text);
  EXPECT_EQ(read("file"), "four");
  EXPECT_FALSE(place->may_remove());
  auto names = [&] {
    std::string all;
    for (const PlaceEntry& entry : place->list("")) all += entry.name + " ";
    return all;
  };
  EXPECT_EQ(names(), "file probe ");
  EXPECT_THROW(place->remove_file("file"), Error);
  EXPECT_THROW(place->remove_folder("."), Error);
  // A server of FTP replaces files by renames.
  EXPECT_EQ(fs::exists(server->folder() + "/file.old"), GetParam() != ServerKind::kFtps);
  if (GetParam() == ServerKind::kFtps) return;
  fs::rename(server->folder() + "/file", server->folder() + "/gone");
  EXPECT_EQ(names(), "file gone probe ");
  EXPECT_TRUE(place->exists("file"));
  EXPECT_EQ(read("file"), "three");
  write_small(*place, "file", "five");
  EXPECT_EQ(read("file"), "five");
}

// Nor where an account that may remove follows one that could not.
TEST_P(RemotePlaceOn, LeavesNothingOfWhatWasKeptAside) {
  for (const char* name : {"file", "file.old", "file.old2"}) write(name, name);
  write_small(*place, "file", "newest");
  EXPECT_EQ(read("file"), "newest");
  EXPECT_FALSE(fs::exists(server->folder() + "/file.old3"));
  place->remove_file("file");
  EXPECT_FALSE(place->exists("file"));
  EXPECT_TRUE(place->list("").empty());
}

// As two PCs would that both finish a set of one number.
TEST_P(RemotePlaceOn, PutsNoFolderInThePlaceOfAnother) {
  for (const char* folder : {"set", "set.unfinished"}) {
    place->make_folder(folder);
    write(std::string(folder) + "/part", folder);
  }
  EXPECT_THROW(place->rename("set.unfinished", "set"), Error);
  EXPECT_EQ(read("set/part"), "set");
  EXPECT_EQ(read("set.unfinished/part"), "set.unfinished");
  EXPECT_EQ(place->list("").size(), 2U);
}

// Whoever ends for another reason does not wait for a server that is away.
TEST_P(RemotePlaceOn, IsLetGoOfAtOnce) {
  write("large", noise(12'000'000, 9));
  remote_context().patience = kHour;
  auto source = place->open("large", false);
  Bytes some(1 << 20);
  source->read_at(0, some);
  source->read_at(some.size(), some);
  auto file = place->create("other");
  file->write(as_bytes("some"));
  proxy->tell("down");
  ::usleep(1'500'000);
  Nanos began = steady_now();
  file.reset();
  source.reset();
  EXPECT_LT(steady_now() - began, 10 * kSecond);
}

INSTANTIATE_TEST_SUITE_P(Servers, RemotePlaceOn,
                         testing::Values(ServerKind::kSftp, ServerKind::kNginx, ServerKind::kApache,
                                         ServerKind::kFtps),
                         [](const auto& kind) { return name_of(kind.param); });

}  // namespace
}  // namespace kestrum::test
