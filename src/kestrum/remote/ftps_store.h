// Files on a server, by FTP (RFC 959) over TLS (RFC 4217): asked for on the usual port, from the
// first byte on on port 990.
#pragma once

#include "kestrum/remote/store.h"

namespace kestrum {

class FtpsStore : public Store {
 public:
  explicit FtpsStore(std::shared_ptr<Connections> connections)
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
  std::uint64_t on_the_way() const override { return std::uint64_t{12} << 20; }
  void write(const std::string& path, std::uint64_t offset, Content content) override;
  std::optional<Room> room(const std::string&) override { return std::nullopt; }

 private:
  // What the server says if it refuses one of them; nothing if it did them all.
  std::optional<std::string> command(const std::vector<std::string>& commands);
  [[noreturn]] void refuse(const std::string& path, const std::string& problem);
  bool finds_folder(const std::string& path);
  [[noreturn]] void fail(const std::string& path, const Reply& reply);

  std::shared_ptr<Connections> connections_;
};

}  // namespace kestrum
