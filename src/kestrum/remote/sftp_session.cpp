#include "kestrum/remote/sftp_session.h"

#include "kestrum/base/clock.h"
#include "kestrum/base/error.h"

namespace kestrum {

SftpSession::SftpSession(SshAccess& server) : connection_(server), first_(connection_) {
  constexpr Nanos kRoundTrips = 3;  // of what follows
  Nanos began = steady_now();
  SftpChannel::State state =
      connection_.finished([&] { return first_.go_on(); }, SftpChannel::State::kOpening);
  server.note_round_trip((steady_now() - began) / kRoundTrips);
  if (state == SftpChannel::State::kRefused) {
    throw Error(ErrorKind::kPlace,
                server.address().host_and_port() + ": it lets in, but offers no files by SFTP",
                "whether SFTP is allowed there is for whoever runs it to say")
        .about_path(server.url("/"));
  }
  server.note_answer();
}

SftpSession::Answer SftpSession::call(sftp::Type type, const sftp::Body& body) {
  return answer(first_, first_.ask(type, body));
}

SftpSession::Answer SftpSession::answer(SftpChannel& channel, SftpChannel::Id id) {
  begin_to_wait();
  for (;;) {
    if (auto come = channel.take(id)) return std::move(*come);
    if (!move()) wait();
  }
}

SftpSession::Opened SftpSession::open(sftp::Type type, const sftp::Body& body) {
  return opened(call(type, body));
}

SftpSession::Opened SftpSession::opened(const Answer& answer) {
  if (auto refused = refusal(answer, sftp::Type::kHandle)) return {"", refused};
  auto handle = sftp::Fields(answer.body).text();
  if (!handle) garbled();
  return {std::string(*handle), std::nullopt};
}

void SftpSession::let_go(const std::string& handle, SftpChannel& channel) {
  channel.tell(sftp::Type::kClose, sftp::Body().text(handle));
  try {
    channel.move();
  } catch (const Error&) {
    // It is not used again.
  }
}

std::optional<std::uint32_t> SftpSession::refusal(const Answer& answer, sftp::Type expected) {
  if (answer.type == expected && expected != sftp::Type::kStatus) return std::nullopt;
  auto status = sftp::Fields(answer.body).number();
  if (answer.type != sftp::Type::kStatus || !status) garbled();
  if (*status == sftp::kOk && expected == sftp::Type::kStatus) return std::nullopt;
  if (*status == sftp::kOk) garbled();
  bool about_connection = *status == sftp::kNoConnection || *status == sftp::kConnectionLost;
  if (about_connection) connection_.broke("the server says that it lost its own");
  return status;
}

void SftpSession::garbled() {
  connection_.garbled();
}

bool SftpSession::move() {
  auto moved = [&] { return first_.moved() + (second_ ? second_->moved() : 0); };
  std::uint64_t before = moved();
  first_.move();
  if (second_) second_->move();
  return moved() != before;
}

SftpChannel* SftpSession::second_channel(bool& refused) {
  if (!second_) second_.emplace(connection_);
  SftpChannel::State state = second_->go_on();
  refused = state == SftpChannel::State::kRefused;
  return state == SftpChannel::State::kOpen ? &*second_ : nullptr;
}

}  // namespace kestrum
