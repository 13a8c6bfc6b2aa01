// A server with nothing on it, for tests to give it what they look at.
#pragma once

#include <memory>
#include <optional>
#include <string>
#include <vector>

#include "kestrum/remote/remote_server.h"
#include "kestrum/remote/store.h"

namespace kestrum::test {

class EmptyStore : public Store {
 public:
  EmptyStore()
      : Store(std::make_shared<RemoteServer>(parse_address("sftp://host.example.org/x"))) {}
  std::optional<std::uint64_t> size(const std::string&) override { return std::nullopt; }
  std::optional<std::vector<PlaceEntry>> list(const std::string&) override { return {}; }
  bool make_folder(const std::string&) override { return true; }
  void remove_file(const std::string&) override {}
  void remove_folder(const std::string&) override {}
  void rename(const std::string&, const std::string&) override {}
  bool receive(const std::string&, const Stretch&, const Sink&) override { return false; }
  bool goes_on() const override { return true; }
  void write(const std::string&, std::uint64_t, Content) override {}
  std::optional<Room> room(const std::string&) override { return std::nullopt; }
};

}  // namespace kestrum::test
