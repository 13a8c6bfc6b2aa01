// Files on a server, by the SSH file transfer protocol
// (draft-ietf-secsh-filexfer-02, which servers call version 3).
#pragma once

#include "kestrum/remote/command_store.h"

namespace kestrum {

class SftpStore : public CommandStore {
 public:
  using CommandStore::CommandStore;

  std::optional<std::uint64_t> size(const std::string& path) override;
  bool exists(const std::string& path) override;
  bool names_folder(const std::string& path) override;
  std::optional<std::vector<PlaceEntry>> list(const std::string& folder) override;
  std::optional<Room> room(const std::string& folder) override;

 private:
  std::optional<Reply> command(Verb verb, const std::string& path, const std::string& to) override;
};

// A line as of ls -l, which is how servers tell more than names in this version of the protocol:
// "drwxr-xr-x    3 root     root         4096 Nov 29 14:41 name". Nothing for what is none.
std::optional<PlaceEntry> parse_listed(std::string_view line);

}  // namespace kestrum
