// Sends one file to a server of SFTP.
#pragma once

#include <array>
#include <cstdint>
#include <deque>
#include <optional>
#include <string>

#include "kestrum/remote/sftp_session.h"
#include "kestrum/remote/store.h"

namespace kestrum {

// As much is under way as the server lets a client send ahead. A server lets two channels send
// twice as much as one: where one is not enough the pieces of the file go by two.
class SftpSender {
 public:
  // Of what was handed on, at most so many bytes have not arrived.
  static constexpr std::size_t kUnderWay = 9 << 19;

  // From `offset` of the file on, which is 0, where it begins anew, or not beyond its end.
  SftpSender(SftpSession& session, std::string path, std::uint64_t offset, const Content& content);
  ~SftpSender();
  SftpSender(const SftpSender&) = delete;

  // Returns when all of it has arrived, is made to last where the server offers that, and closed;
  // or gives why the server refuses it, as SSH_FX_ number. Throws what the content throws, and
  // BrokenConnection. Unless it returns nothing, some may be under way.
  std::optional<std::uint32_t> run();

 private:
  struct Piece {
    SftpChannel::Id id;
    std::uint64_t at;  // in the file
    std::size_t length;
  };
  // A channel with the file open on it.
  struct Lane {
    SftpChannel* channel = nullptr;
    std::string handle;
    std::deque<Piece> under_way;
    std::size_t bytes = 0;  // of them
  };
  enum class Second { kToOpen, kOpening, kThere, kRefused };

  bool all_arrived() const { return lanes_[0].under_way.empty() && lanes_[1].under_way.empty(); }
  Lane* free_lane();
  bool fill();
  void end();
  void open_second();
  std::optional<std::uint32_t> collect(Lane& lane, bool& moved);
  void tell();
  std::optional<std::uint32_t> finish();

  SftpSession& session_;
  std::string path_;
  const Content& content_;
  std::array<Lane, 2> lanes_;
  Second second_ = Second::kToOpen;
  SftpChannel::Id opening_ = 0;  // the file, on the second channel
  bool full_ = false;            // the first lane once had as much under way as it may
  std::uint64_t offset_;         // in the file, of what comes next
  std::uint64_t told_;           // up to where it was told to have arrived
  bool whole_ = false;
  std::optional<SftpChannel::Id> sync_, close_;  // asked for behind all of it
};

}  // namespace kestrum
