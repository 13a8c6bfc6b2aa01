// Files on a server, as one protocol has them. Paths are absolute, as they are on the server.
#pragma once

#include <cstdint>
#include <functional>
#include <memory>
#include <optional>
#include <span>
#include <string>
#include <utility>
#include <vector>

#include "kestrum/base/nanos.h"
#include "kestrum/place/place.h"
#include "kestrum/remote/remote_server.h"

namespace kestrum {

// What is written to a server.
struct Content {
  // Fills what it is given; gives how much, 0 at the end, nothing to break off.
  std::function<std::optional<std::size_t>(std::span<std::uint8_t>)> fill;
  std::optional<std::uint64_t> size;  // bytes, where it is known
  std::function<void()> rewind;       // goes back to the first byte; none: it cannot
  // Whether `fill` gives something, or the end, without waiting; none: it never waits.
  std::function<bool()> ready;
  // That so many bytes more, from the first on, are in the server's file.
  std::function<void(std::size_t)> arrived;
};

// Every call throws BrokenConnection where it may be made again, Error(kPlace) where the server
// lets nobody in, Error(kNoRoom) where it says that it is full, Error(kFailed) otherwise.
class Store {
 public:
  explicit Store(std::shared_ptr<RemoteServer> server) : server_(std::move(server)) {}
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

  // A piece of a file: from a byte on.
  struct Stretch {
    std::uint64_t from = 0;
    std::uint64_t wanted = UINT64_MAX;  // bytes
    // Nothing is known to come behind it, so that the end need not be asked for.
    bool to_end = true;
    bool large = false;  // as an exchange has it

    // As an exchange asks for it.
    std::pair<std::uint64_t, std::optional<std::uint64_t>> range() const {
      return {from, to_end ? std::nullopt : std::optional(from + wanted - 1)};
    }
  };
  // Hands it to `sink`, until that gives false. False if there is no such file; that it ends
  // earlier is for the caller to see.
  using Sink = std::function<bool(ByteView)>;
  virtual bool receive(const std::string& path, const Stretch& stretch, const Sink& sink) = 0;
  // Reads a file from `at` on while it is written, by one connection; `at` is kept up to date.
  // False where the protocol cannot.
  virtual bool follow(const std::string& path, std::uint64_t& at, const Following& following) {
    (void)path;
    (void)at;
    (void)following;
    return false;
  }
  // All of a file of at most so many bytes; nothing if there is none. Throws Error(kDamage) if it
  // is longer.
  std::optional<Bytes> read_whole(const std::string& path, std::uint64_t limit);

  // Whether an upload that broke can be gone on with where the server's file ends.
  virtual bool goes_on() const = 0;
  // At most so many bytes were handed on and have not become part of the server's file yet: what
  // the protocol, and both ends' buffers, allow.
  virtual std::uint64_t on_the_way() const { return std::uint64_t{6} << 20; }
  // Whether `Content::arrived` is told what has.
  virtual bool tells_arrival() const { return false; }
  // Writes from `offset` on, which is 0 or where the file ends; from 0, the file begins anew.
  virtual void write(const std::string& path, std::uint64_t offset, Content content) = 0;

  // How long a small file takes, in nanoseconds, by the way to the server; 0: not known.
  virtual Nanos pace() { return 0; }
  // Whether another connection costs no more than a while of waiting, with nothing to do.
  virtual bool is_far() { return false; }
  // Connections that are open and not in use, as far as it is known.
  virtual std::size_t idle_connections() { return 0; }
  // Makes one more, for who comes later. Throws nothing: who needs it makes it then, and is told.
  virtual void connect_another() {}

  // Free room where `folder` lies; nothing if the server does not tell.
  virtual std::optional<Room> room(const std::string& folder) = 0;

 protected:
  // Names the path.
  Error refusal(const std::string& path, ErrorKind kind, const std::string& why,
                const std::string& hint = "") const;
  [[noreturn]] void refuse(const std::string& path, ErrorKind kind, const std::string& why,
                           const std::string& hint = "") const;

 private:
  std::shared_ptr<RemoteServer> server_;
};

}  // namespace kestrum
