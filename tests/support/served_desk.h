// A job whose place is on a server.
#pragma once

#include <gtest/gtest.h>

#include <filesystem>
#include <memory>
#include <string>
#include <vector>

#include "support/program.h"
#include "support/servers.h"
#include "support/tree.h"

namespace kestrum::test {

class ServedDesk {
 public:
  void start(ServerKind kind, bool by_proxy = false, Server::Allows allows = Server::Allows::kAll,
             const std::string& more = "") {
    server = std::make_unique<Server>(kind, allows, more);
    if (by_proxy) proxy = std::make_unique<Proxy>(server->port());
    server->introduce(desk, proxy.get());
    place = server->place(proxy.get());
  }
  void define(const std::vector<std::string>& more = {"--protection", "none"}) {
    std::vector<std::string> words = {"job", "new", "desk", "--from", desk.source(), "--to", place};
    words.insert(words.end(), more.begin(), more.end());
    Ran ran = desk.kestrum(words);
    ASSERT_EQ(ran.exit, 0) << ran.out << ran.err << server->log();
  }
  void fill(int seed, std::size_t bytes = 40'000) {
    for (int i = 0; i < 6; ++i) {
      put_file(desk.source() + "/file-" + std::to_string(seed) + "-" + std::to_string(i),
               noise(bytes, static_cast<unsigned>(seed * 100 + i)));
    }
  }
  std::string shelf() const { return place + "/test-pc/desk"; }
  std::string shelf_here() const { return server->folder() + "/test-pc/desk"; }
  // That a restore point comes back as the tree was.
  void expect_point(const std::string& set, const Tree& tree) {
    std::string to = desk.folder / ("back-" + set);
    std::filesystem::create_directories(to);
    Ran ran = desk.kestrum({"restore", "desk", "--point", set, "--to", to, "--everything"});
    EXPECT_EQ(ran.exit, 0) << ran.out << ran.err;
    EXPECT_EQ(difference(tree, tree_of(to)), "") << set;
    std::filesystem::remove_all(to);
  }

  Desk desk;
  std::unique_ptr<Server> server;
  std::unique_ptr<Proxy> proxy;
  std::string place;
};

class OnAServer : public testing::TestWithParam<ServerKind>, protected ServedDesk {
 protected:
  void SetUp() override {
    if (std::string why = Server::why_not(GetParam()); !why.empty()) GTEST_SKIP() << why;
  }
};

}  // namespace kestrum::test
