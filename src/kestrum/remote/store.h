// Files on a server, as one protocol has them. Paths are absolute, as they are on the server.
#pragma once

#include <cstdint>
#include <memory>
#include <optional>
#include <string>
#include <vector>

#include "kestrum/place/place.h"
#include "kestrum/remote/connections.h"

namespace kestrum {

// Every call throws BrokenConnection where it may be made again, Error(kPlace) where the server
// lets nobody in, Error(kNoRoom) where it says that it is full, Error(kFailed) otherwise.
class Store {
 public:
  explicit Store(std::shared_ptr<Connections> connections) : connections_(std::move(connections)) {}
  virtual ~Store() = default;

  // Size in bytes of a file, some number of a folder; nothing if there is none.
  virtual std::optional<std::uint64_t> size(const std::string& path) = 0;
  // Whether anything has this name.
  virtual bool exists(const std::string& path) { return size(path).has_value(); }
  // Whether a folder has this name.
  virtual bool names_folder(const std::string& path);
  // Nothing if there is no such folder. In any order.
  virtual std::optional<std::vector<PlaceEntry>> list(const std::string& folder) = 0;
  // Gives false if the folder above is not there; one that is there already is fine.
  virtual bool make_folder(const std::string& path) = 0;
  // What is not there is fine.
  virtual void remove_file(const std::string& path) = 0;
  virtual void remove_folder(const std::string& path) = 0;  // with all in it
  // Nothing must be at `to`.
  virtual void rename(const std::string& from, const std::string& to) = 0;

  // A piece of a file: from a byte on, up to another one or to the end.
  struct Stretch {
    std::uint64_t from = 0;
    std::optional<std::uint64_t> last;
    bool large = false;  // as an exchange has it
  };
  // Hands it to `sink`, until that gives false. False if there is no such file; that it ends
  // earlier is for the caller to see.
  using Sink = std::function<bool(ByteView)>;
  virtual bool receive(const std::string& path, const Stretch& stretch, const Sink& sink) = 0;
  // All of a file of at most so many bytes; nothing if there is none. Throws Error(kDamage) if it
  // is longer.
  std::optional<Bytes> read_whole(const std::string& path, std::uint64_t limit);

  // Whether an upload that broke can be gone on with where the server's file ends.
  virtual bool goes_on() const = 0;
  // At most so many bytes were handed on and have not become part of the server's file yet: what
  // the protocol, and both ends' buffers, allow.
  virtual std::uint64_t on_the_way() const { return std::uint64_t{6} << 20; }
  // Writes from `offset` on, which is 0 or where the file ends; from 0, the file begins anew.
  virtual void write(const std::string& path, std::uint64_t offset, Content content) = 0;

  // Free room where `folder` lies; nothing if the server does not tell.
  virtual std::optional<Room> room(const std::string& folder) = 0;

 protected:
  // Throws Error, naming the path.
  [[noreturn]] void refuse(const std::string& path, ErrorKind kind, const std::string& why,
                           const std::string& hint = "") const;

  std::shared_ptr<Connections> connections_;
};

}  // namespace kestrum
