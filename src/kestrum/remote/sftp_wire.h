// Packets of the SSH file transfer protocol, version 3 (draft-ietf-secsh-filexfer-02), as bytes.
// What a server sends is untrusted: what cannot be understood gives nothing.
#pragma once

#include <cstdint>
#include <optional>
#include <set>
#include <string>
#include <string_view>
#include <vector>

#include "kestrum/base/bytes.h"

namespace kestrum::sftp {

// SSH_FXP_... (section 3).
enum class Type : std::uint8_t {
  kInit = 1,
  kVersion = 2,
  kOpen = 3,
  kClose = 4,
  kRead = 5,
  kWrite = 6,
  kStatOpen = 8,
  kOpenFolder = 11,
  kReadFolder = 12,
  kRemove = 13,
  kMakeFolder = 14,
  kRemoveFolder = 15,
  kStat = 17,
  kRename = 18,
  kStatus = 101,
  kHandle = 102,
  kData = 103,
  kNames = 104,
  kAttributes = 105,
  kExtended = 200,
  kExtendedReply = 201,
};

// SSH_FX_... (section 7), and those of later versions that some servers use.
enum Status : std::uint32_t {
  kOk = 0,
  kEndOfFile = 1,
  kNoSuchFile = 2,
  kPermissionDenied = 3,
  kFailure = 4,
  kBadMessage = 5,
  kNoConnection = 6,
  kConnectionLost = 7,
  kUnsupported = 8,
  kNoSuchPath = 10,
  kWriteProtected = 12,
  kNoSpace = 14,
  kQuotaExceeded = 15,
};

// How a file is opened (section 6.3).
inline constexpr std::uint32_t kToRead = 1, kToWrite = 2, kToCreate = 8, kToBeginAnew = 16;

inline constexpr std::uint32_t kVersionSpoken = 3;
// Bytes. A packet behind its length; a piece of a file in one, which every server takes; a packet's
// length, type and number.
inline constexpr std::size_t kLongestPacket = (256 << 10) + 1024, kPiece = 32 << 10, kHead = 9;

// What a request says behind its number.
class Body {
 public:
  Body& number(std::uint32_t value);
  Body& long_number(std::uint64_t value);
  Body& text(std::string_view value);
  // Attributes of something new that has only a mode (section 5).
  Body& mode(std::uint32_t value);
  ByteView bytes() const { return bytes_; }

 private:
  Bytes bytes_;
};

// The fields of an answer, one after the other; nothing for one that is not there.
class Fields {
 public:
  explicit Fields(ByteView bytes) : left_(bytes) {}
  std::optional<std::uint32_t> number();
  std::optional<std::uint64_t> long_number();
  std::optional<std::string_view> text();
  bool at_end() const { return left_.empty(); }

 private:
  ByteView left_;
};

struct Attributes {
  std::optional<std::uint64_t> size;  // bytes
  std::optional<std::uint32_t> mode;
  bool is_folder() const;
};
std::optional<Attributes> attributes_of(Fields& fields);

struct Name {
  std::string name;
  Attributes attributes;
};
std::optional<std::vector<Name>> names_of(ByteView body);

// Names of what the server can do besides, as it says behind its version (section 4); nothing if it
// is another than ours.
std::optional<std::set<std::string>> extensions_of(std::uint32_t version, ByteView body);

// What a disk has, of statvfs@openssh.com (PROTOCOL of OpenSSH, section 4.4), in bytes.
struct Disk {
  std::uint64_t free = 0, total = 0;
};
std::optional<Disk> disk_of(ByteView body);

std::uint32_t big_endian(ByteView four);
void put_big_endian(std::uint8_t* four, std::uint32_t value);

}  // namespace kestrum::sftp
