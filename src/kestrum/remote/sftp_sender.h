// Sends one file to a server of SFTP.
#pragma once

#include <array>
#include <cstdint>
#include <optional>
#include <string>

#include "kestrum/base/bytes.h"
#include "kestrum/remote/sftp_session.h"
#include "kestrum/remote/store.h"

namespace kestrum {

// As much is under way as the server lets a client send ahead. A server lets two channels send
// twice as much as one: what comes soon enough goes by two, which take turns.
class SftpSender {
 public:
  // Of what was handed on, at most so many bytes have not arrived.
  static constexpr std::size_t kUnderWay = 9 << 19;

  // From `offset` of the file on, which is 0, where it begins anew, or not beyond its end.
  SftpSender(SftpSession& session, std::string path, std::uint64_t offset, const Content& content);
  ~SftpSender();
  SftpSender(const SftpSender&) = delete;

  // Returns when all of it has arrived, or gives why the server refuses it, as SSH_FX_ number.
  // Throws what the content throws, and BrokenConnection. Some may be under way then.
  std::optional<unsigned long> run();
  // Makes the file last, where `syncs` says that the server offers that, which becomes false where
  // it does not; and closes it. The same answers.
  std::optional<unsigned long> end(bool& syncs);

 private:
  // A channel with the file open on it.
  struct Lane {
    LIBSSH2_SFTP_HANDLE* handle = nullptr;
    Bytes buffer;
    std::size_t arrived = 0, filled = 0;  // in the buffer
    std::uint64_t at = 0;                 // in the file, of what arrives next
    std::uint64_t taken = 0;              // since it is its turn
    bool is_empty() const { return arrived == filled; }
  };
  enum class Second { kToOpen, kThere, kRefused };

  void fill();
  void take_turns();
  void open_second();
  std::optional<unsigned long> push(Lane& lane, bool& moved);
  void tell();
  Lane& turn() { return lanes_[turn_]; }
  Lane& other() { return lanes_[1 - turn_]; }

  SftpSession& session_;
  std::string path_;
  const Content& content_;
  std::array<Lane, 2> lanes_;
  std::size_t turn_ = 0;  // whose it is to take what comes
  Second second_ = Second::kToOpen;
  LIBSSH2_SFTP* channel_ = nullptr;  // the second
  std::uint64_t offset_;             // in the file, of what comes next
  std::uint64_t told_;               // up to where it was told to have arrived
  bool whole_ = false;
};

}  // namespace kestrum
