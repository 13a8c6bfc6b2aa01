// The connections to a server of SFTP.
#pragma once

#include <memory>
#include <mutex>
#include <utility>
#include <vector>

#include "kestrum/remote/sftp_session.h"
#include "kestrum/remote/ssh_access.h"

namespace kestrum {

class SftpServer : public SshAccess {
 public:
  using SshAccess::SshAccess;

  // A connection for as long as this exists; kept for the next after it, unless it broke.
  class Lease {
   public:
    Lease(SftpServer& server, std::unique_ptr<SftpSession> session)
        : server_(server), session_(std::move(session)) {}
    ~Lease();
    Lease(const Lease&) = delete;
    SftpSession* operator->() const { return session_.get(); }
    SftpSession& operator*() const { return *session_; }

   private:
    SftpServer& server_;
    std::unique_ptr<SftpSession> session_;
  };
  // Throws what SftpSession does.
  Lease session();
  std::size_t idle_sessions();
  // One more that is idle, unless that fails.
  void connect_another();

 private:
  std::mutex mutex_;
  std::vector<std::unique_ptr<SftpSession>> idle_;
};

}  // namespace kestrum
