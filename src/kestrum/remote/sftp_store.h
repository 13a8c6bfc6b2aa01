// Files on a server, by the SSH file transfer protocol.
#pragma once

#include "kestrum/remote/command_store.h"
#include "kestrum/remote/sftp_server.h"

namespace kestrum {

// Some requests are always under way while files are written and read, so that a long way costs
// little. What was written is made to last where the server offers that.
class SftpStore : public CommandStore {
 public:
  explicit SftpStore(const std::shared_ptr<SftpServer>& server)
      : CommandStore(server), server_(server) {}

  std::optional<std::uint64_t> size(const std::string& path) override;
  bool names_folder(const std::string& path) override;
  std::optional<std::vector<PlaceEntry>> list(const std::string& folder) override;
  bool receive(const std::string& path, const Stretch& stretch, const Sink& sink) override;
  bool follow(const std::string& path, std::uint64_t& at, const Following& following) override;
  std::uint64_t on_the_way() const override;
  bool tells_arrival() const override { return true; }
  void write(const std::string& path, std::uint64_t offset, Content content) override;
  Nanos pace() override { return 2 * server_->round_trip(); }
  bool is_far() override { return server_->is_far(); }
  std::size_t idle_connections() override { return server_->idle_sessions(); }
  void connect_another() override { server_->connect_another(); }
  std::optional<Room> room(const std::string& folder) override;

 private:
  std::optional<Error> command(Verb verb, const std::string& path, const std::string& to) override;
  // Nothing if nothing has this name.
  std::optional<sftp::Attributes> look(const std::string& path);
  // What a number of the protocol (SSH_FX_...) says of a path.
  Error told(const std::string& path, std::uint32_t refused) const;

  std::shared_ptr<SftpServer> server_;
};

}  // namespace kestrum
