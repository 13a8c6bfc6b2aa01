// Files on a server, by the SSH file transfer protocol
// (draft-ietf-secsh-filexfer-02, which servers call version 3).
#pragma once

#include "kestrum/remote/store.h"

namespace kestrum {

class SftpStore : public Store {
 public:
  explicit SftpStore(std::shared_ptr<Connections> connections)
      : connections_(std::move(connections)) {}

  std::optional<std::uint64_t> size(const std::string& path) override;
  std::optional<std::vector<PlaceEntry>> list(const std::string& folder) override;
  bool make_folder(const std::string& path) override;
  void remove_file(const std::string& path) override;
  void remove_folder(const std::string& path) override;
  void rename(const std::string& from, const std::string& to) override;
  void receive(const std::string& path, std::uint64_t offset, std::uint64_t length, bool to_end,
               const Sink& sink) override;
  std::optional<Bytes> read_whole(const std::string& path, std::uint64_t limit) override;
  bool goes_on() const override { return true; }
  void write(const std::string& path, std::uint64_t offset, Content content) override;
  std::optional<Room> room(const std::string& folder) override;

 private:
  // Nothing if it was done, else what the server says.
  std::optional<std::string> command(const std::string& command);
  [[noreturn]] void fail(const std::string& path, const Reply& reply);

  std::shared_ptr<Connections> connections_;
};

}  // namespace kestrum
