// Files on a server, as one protocol has them. Paths are absolute, as they are on the server.
#pragma once

#include <cstdint>
#include <memory>
#include <optional>
#include <span>
#include <string>
#include <vector>

#include "kestrum/place/place.h"
#include "kestrum/remote/connections.h"

namespace kestrum {

// Every call throws BrokenConnection where it may be made again, Error(kPlace) where the server
// lets nobody in, Error(kNoRoom) where it says that it is full, Error(kFailed) otherwise.
class Store {
 public:
  virtual ~Store() = default;

  // Size in bytes of a file, some number of a folder; nothing if there is none.
  virtual std::optional<std::uint64_t> size(const std::string& path) = 0;
  // Nothing if there is no such folder. In any order.
  virtual std::optional<std::vector<PlaceEntry>> list(const std::string& folder) = 0;
  // Gives false if the folder above is not there; one that is there already is fine.
  virtual bool make_folder(const std::string& path) = 0;
  // What is not there is fine.
  virtual void remove_file(const std::string& path) = 0;
  virtual void remove_folder(const std::string& path) = 0;  // with all in it
  // Nothing must be at `to`.
  virtual void rename(const std::string& from, const std::string& to) = 0;
  // Hands the `length` bytes of a file from `offset` on, with which it ends if `to_end`, to `sink`,
  // until that gives false. Throws Error(kDamage) if there is no such file; that it ends earlier is
  // for the caller to see.
  using Sink = std::function<bool(ByteView)>;
  virtual void receive(const std::string& path, std::uint64_t offset, std::uint64_t length,
                       bool to_end, const Sink& sink) = 0;

  // All of a file of at most so many bytes; nothing if there is none. Throws Error(kDamage) if it
  // is longer.
  virtual std::optional<Bytes> read_whole(const std::string& path, std::uint64_t limit) = 0;

  // Whether an upload that broke can be gone on with where the server's file ends.
  virtual bool goes_on() const = 0;
  // At most so many bytes were handed on and have not become part of the server's file yet: what
  // the protocol, and both ends' buffers, allow.
  virtual std::uint64_t on_the_way() const { return std::uint64_t{6} << 20; }
  struct Content {
    // Fills what it is given; gives how much, 0 at the end, nothing to break off.
    std::function<std::optional<std::size_t>(std::span<std::uint8_t>)> fill;
    std::optional<std::uint64_t> size;  // bytes, where it is known
    std::function<void()> rewind;       // goes back to the first byte; none: it cannot
  };
  // Writes from `offset` on, which is 0 or where the file ends; from 0, the file begins anew.
  virtual void write(const std::string& path, std::uint64_t offset, Content content) = 0;

  // Free room where `folder` lies; nothing if the server does not tell.
  virtual std::optional<Room> room(const std::string& folder) = 0;
};

// Whether so much is asked for that larger pieces are worth it.
inline constexpr std::uint64_t kLarge = 1 << 20;  // bytes

std::unique_ptr<Store> store_at(std::shared_ptr<Connections> connections);

}  // namespace kestrum
