// Real servers on this machine that places are on, and a proxy before them that is slow or breaks.
#pragma once

#include <memory>
#include <optional>
#include <string>
#include <vector>

#include "support/program.h"
#include "support/temp_folder.h"

namespace kestrum::test {

// A way to a port of this machine; `tell` takes a line of tests/support/proxy.py.
class Proxy {
 public:
  explicit Proxy(int port);
  ~Proxy();
  Proxy(const Proxy&) = delete;
  int port() const { return port_; }
  std::string tell(const std::string& line);

 private:
  std::string read_line();
  int pid_ = -1, in_ = -1, out_ = -1, port_ = 0;
};

enum class ServerKind { kSftp, kNginx, kApache, kFtps };
std::string name_of(ServerKind kind);

// Serves a folder of its own at /place. Started at construction, ended at destruction.
class Server {
 public:
  enum class Allows {
    kAll,
    kNoRemoval,  // nothing on it can be removed
    kNoRename,   // nothing on it can be given another name
  };
  // `more`: lines of its configuration, of sshd.
  explicit Server(ServerKind kind, Allows allows = Allows::kAll, std::string more = "");
  ~Server();

  // Why there can be none here; empty if there can.
  static std::string why_not(ServerKind kind);

  // The address of /place; through a proxy with its port.
  std::string place(const Proxy* proxy = nullptr) const;
  int port() const { return port_; }
  std::string folder() const { return root_ + "/place"; }  // where that lies on this machine
  // Lets the program of a desk in: keys, known hosts, places.toml.
  void introduce(Desk& desk, const Proxy* proxy = nullptr) const;
  // Ends it, and starts it again at the same port.
  void stop();
  void start();
  std::string log() const;

  TempFolder files;  // in memory where that can be: what is made to last costs no disk's time

 private:
  void configure();
  std::vector<std::string> command() const;

  ServerKind kind_;
  Allows allows_;
  std::string more_, root_;
  int port_ = 0;
  std::unique_ptr<Background> process_;
};

}  // namespace kestrum::test
