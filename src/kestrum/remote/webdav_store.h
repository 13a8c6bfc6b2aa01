// Files on a server, by WebDAV (RFC 4918).
#pragma once

#include "kestrum/remote/connections.h"
#include "kestrum/remote/store.h"

namespace kestrum {

class WebdavStore : public Store {
 public:
  explicit WebdavStore(const std::shared_ptr<Connections>& connections)
      : Store(connections), connections_(connections) {}

  std::optional<std::uint64_t> size(const std::string& path) override;
  std::optional<std::vector<PlaceEntry>> list(const std::string& folder) override;
  bool make_folder(const std::string& path) override;
  void remove_file(const std::string& path) override;
  void remove_folder(const std::string& path) override;
  void rename(const std::string& from, const std::string& to) override;
  bool receive(const std::string& path, const Stretch& stretch, const Sink& sink) override;
  bool goes_on() const override { return false; }
  void write(const std::string& path, std::uint64_t offset, Content content) override;
  std::optional<Room> room(const std::string& folder) override;

 private:
  // The resources that PROPFIND tells of; nothing if there is none at `path`.
  std::optional<std::string> properties(const std::string& path, const char* depth,
                                        const char* names);
  std::optional<PlaceEntry> look(const std::string& path);
  [[noreturn]] void fail(const std::string& path, const Reply& reply) const;

  std::shared_ptr<Connections> connections_;
};

// What an answer of PROPFIND (RFC 4918, section 9.1) says of the members of `folder`, itself left
// out; of `folder` alone with `itself`. Throws Error(kFailed) naming `what` for what is none.
struct DavResource {
  PlaceEntry entry;
  std::optional<std::uint64_t> available, used;  // bytes (RFC 4331)
};
std::vector<DavResource> parse_multistatus(const std::string& xml, const std::string& folder,
                                           bool itself, const std::string& what);

}  // namespace kestrum
