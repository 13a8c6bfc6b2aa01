// Files on a server, by FTP (RFC 959) over TLS (RFC 4217): asked for on the usual port, from the
// first byte on on port 990.
#pragma once

#include "kestrum/remote/command_store.h"
#include "kestrum/remote/connections.h"

namespace kestrum {

class FtpsStore : public CommandStore {
 public:
  explicit FtpsStore(const std::shared_ptr<Connections>& connections)
      : CommandStore(connections), connections_(connections) {}

  std::optional<std::uint64_t> size(const std::string& path) override;
  std::optional<std::vector<PlaceEntry>> list(const std::string& folder) override;
  bool receive(const std::string& path, const Stretch& stretch, const Sink& sink) override;
  std::uint64_t on_the_way() const override { return std::uint64_t{12} << 20; }
  void write(const std::string& path, std::uint64_t offset, Content content) override;
  std::optional<Room> room(const std::string&) override { return std::nullopt; }

 private:
  std::optional<Error> command(Verb verb, const std::string& path, const std::string& to) override;
  // The first refusal of these.
  std::optional<Reply> commands(const std::vector<std::string>& texts);
  bool finds_folder(const std::string& path);
  // Throws Error(kPlace) where it lets nobody in.
  Error told(const std::string& path, const Reply& reply) const;

  std::shared_ptr<Connections> connections_;
};

}  // namespace kestrum
