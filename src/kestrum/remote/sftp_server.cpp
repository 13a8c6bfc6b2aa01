#include "kestrum/remote/sftp_server.h"

namespace kestrum {
namespace {

constexpr std::size_t kIdleSessions = 6;

}  // namespace

SftpServer::Lease::~Lease() {
  if (!session_) return;
  std::vector<std::unique_ptr<SftpSession>> dropped;
  std::lock_guard lock(server_.mutex_);
  // What ended one has mostly ended those that lay idle meanwhile.
  if (!session_->is_usable()) {
    server_.idle_.swap(dropped);
  } else if (server_.idle_.size() < kIdleSessions) {
    server_.idle_.push_back(std::move(session_));
  }
}

SftpServer::Lease SftpServer::session() {
  for (;;) {
    std::unique_ptr<SftpSession> idle;
    {
      std::lock_guard lock(mutex_);
      if (idle_.empty()) break;
      idle = std::move(idle_.back());
      idle_.pop_back();
    }
    if (idle->is_usable()) return {*this, std::move(idle)};
  }
  return {*this, std::make_unique<SftpSession>(*this)};
}

void SftpServer::connect_another() {
  try {
    Lease another(*this, std::make_unique<SftpSession>(*this));
  } catch (const Error&) {
  }
}

std::size_t SftpServer::idle_sessions() {
  std::lock_guard lock(mutex_);
  return idle_.size();
}

}  // namespace kestrum
