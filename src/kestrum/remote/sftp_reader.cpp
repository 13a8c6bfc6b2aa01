#include "kestrum/remote/sftp_reader.h"

#include <algorithm>
#include <utility>

namespace kestrum {
namespace {

// Bytes that are asked for ahead: at first, and at most.
constexpr std::uint64_t kAtFirst = 64 << 10, kAtFirstOfMuch = 1 << 20;
constexpr std::uint64_t kAskedAhead = 256 << 10, kAheadOfMuch = 4 << 20;

}  // namespace

SftpReader::~SftpReader() {
  forget();
  session_.let_go(handle_, session_.channel());
}

void SftpReader::forget() {
  for (const Piece& piece : asked_) session_.channel().forget(piece.id);
  if (asked_size_) session_.channel().forget(*std::exchange(asked_size_, std::nullopt));
  asked_.clear();
  ahead_ = 0;
}

SftpReader::Piece SftpReader::ask(std::uint64_t at, std::uint64_t length) {
  auto some = static_cast<std::uint32_t>(std::min<std::uint64_t>(length, sftp::kPiece));
  ahead_ += some;
  return {session_.channel().ask(sftp::Type::kRead,
                                 sftp::Body().text(handle_).long_number(at).number(some)),
          at, some};
}

std::optional<std::uint32_t> SftpReader::read(std::uint64_t from, std::uint64_t wanted, bool large,
                                              const Store::Sink& sink) {
  SftpChannel& channel = session_.channel();
  if (large) channel.widen();
  std::uint64_t end = wanted > UINT64_MAX - from ? UINT64_MAX : from + wanted, next = from;
  std::uint64_t most = large ? kAheadOfMuch : kAskedAhead,
                ahead = large ? kAtFirstOfMuch : kAtFirst;
  if (end == UINT64_MAX && !size_) {
    asked_size_ = channel.ask(sftp::Type::kStatOpen, sftp::Body().text(handle_));
  }
  while (true) {
    while (next < end && ahead_ < ahead) {
      asked_.push_back(ask(next, end - next));
      next += asked_.back().length;
    }
    if (asked_.empty()) return std::nullopt;
    SftpSession::Answer answer = session_.answer(channel, asked_.front().id);
    Piece piece = asked_.front();
    asked_.pop_front();
    ahead_ -= piece.length;
    if (auto refused = session_.refusal(answer, sftp::Type::kData)) {
      forget();
      return refused == sftp::kEndOfFile ? std::nullopt : refused;
    }
    auto data = sftp::Fields(answer.body).text();
    if (!data || data->empty() || data->size() > piece.length) session_.garbled();
    std::uint64_t at = piece.at + data->size();
    if (!sink(as_bytes(*data)) || (data->size() < piece.length && ends_at(at))) {
      forget();
      return std::nullopt;
    }
    if (data->size() < piece.length) asked_.push_front(ask(at, piece.length - data->size()));
    ahead = std::min(most, ahead + data->size());
  }
}

// Whether the file is known to be no longer.
bool SftpReader::ends_at(std::uint64_t at) {
  if (asked_size_) {
    SftpSession::Answer answer =
        session_.answer(session_.channel(), *std::exchange(asked_size_, std::nullopt));
    if (!session_.refusal(answer, sftp::Type::kAttributes)) {
      sftp::Fields fields(answer.body);
      auto attributes = sftp::attributes_of(fields);
      if (!attributes) session_.garbled();
      size_ = attributes->size;
    }
  }
  return size_ && *size_ == at;
}

}  // namespace kestrum
