// Reads a file that is open on a server of SFTP.
#pragma once

#include <cstdint>
#include <deque>
#include <optional>
#include <string>

#include "kestrum/remote/sftp_session.h"
#include "kestrum/remote/store.h"

namespace kestrum {

// Some pieces are always asked for ahead of the one that comes, so that a long way costs little.
class SftpReader {
 public:
  // Closes `handle` when it is done.
  SftpReader(SftpSession& session, std::string handle)
      : session_(session), handle_(std::move(handle)) {}
  ~SftpReader();
  SftpReader(const SftpReader&) = delete;

  // Hands on what lies from `from` on, at most so many bytes, until `sink` gives false; `large`:
  // most of it is wanted. Gives why the server refuses it, as SSH_FX_ number; that it ends earlier
  // is none.
  std::optional<std::uint32_t> read(std::uint64_t from, std::uint64_t wanted, bool large,
                                    const Store::Sink& sink);

 private:
  struct Piece {
    SftpChannel::Id id;
    std::uint64_t at;  // in the file
    std::uint32_t length;
  };
  Piece ask(std::uint64_t at, std::uint64_t length);
  bool ends_at(std::uint64_t at);
  void forget();

  SftpSession& session_;
  std::string handle_;
  std::deque<Piece> asked_;
  std::uint64_t ahead_ = 0;  // bytes of them
  std::optional<SftpChannel::Id> asked_size_;
  std::optional<std::uint64_t> size_;  // bytes of the file, where it was asked
};

}  // namespace kestrum
