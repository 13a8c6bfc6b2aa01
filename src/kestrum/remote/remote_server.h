// A server that places are on: how it is named and reached, and how its refusals are told. Each
// protocol's client builds on it.
#pragma once

#include <atomic>
#include <map>
#include <memory>
#include <mutex>
#include <string>
#include <vector>

#include "kestrum/base/error.h"
#include "kestrum/remote/remote_settings.h"

namespace kestrum {

// Nobody answers, or the connection broke: what was being done may be tried again.
class BrokenConnection : public Error {
 public:
  BrokenConnection(const Error& error, bool first, bool answered)
      : Error(error), first_(first), answered_(answered) {}
  // The server has answered nothing yet in this process.
  bool first() const { return first_; }
  // The connection is good, and the server says that it cannot: hardly worth an hour.
  bool answered() const { return answered_; }

 private:
  bool first_, answered_;
};

class RemoteServer {
 public:
  // Of what `address` names; its path does not matter.
  explicit RemoteServer(RemoteAddress address);
  virtual ~RemoteServer() = default;

  const RemoteAddress& address() const { return address_; }
  const RemoteSettings& settings() const { return settings_; }
  // As messages name it.
  std::string url(const std::string& path) const;

  // It has answered something, so that it is there and lets this user in.
  void note_answer() { answered_ = true; }
  bool has_answered() const { return answered_; }

  // Throws BrokenConnection: the server, or what stands before it, cannot just now.
  [[noreturn]] void unable(const std::string& path, const std::string& problem,
                           bool answered = false) const;
  // Throws Error(kPlace). Of SFTP with the files of the keys that were tried.
  [[noreturn]] void refuse_login(const std::vector<std::string>& keys = {}) const;

 protected:
  RemoteAddress address_;  // with the user whom the settings name where it names none
  RemoteSettings settings_;

 private:
  std::atomic<bool> answered_ = false;
};

// The client of the server that an address names, the same for all places on it.
template <typename Client>
std::shared_ptr<Client> client_of(RemoteAddress address) {
  // Never destroyed: when the process ends, the libraries beneath are gone before statics are.
  static std::mutex mutex;
  static auto& known = *new std::map<std::string, std::shared_ptr<Client>>;
  address.path = "/";
  std::lock_guard lock(mutex);
  auto& client = known[address.text()];
  if (!client) client = std::make_shared<Client>(address);
  return client;
}

}  // namespace kestrum
