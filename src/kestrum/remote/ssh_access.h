// A server that is reached by SSH: who it must be, and whom it lets in.
#pragma once

#include <libssh2.h>

#include <atomic>
#include <mutex>
#include <string>
#include <string_view>
#include <vector>

#include "kestrum/remote/host_key.h"
#include "kestrum/remote/remote_server.h"

namespace kestrum {

class SshAccess : public RemoteServer {
 public:
  explicit SshAccess(RemoteAddress address);

  std::string known_hosts() const;  // the file
  // Throws Error(kPlace) unless the host is known by this key, or becomes so now.
  void check_host(LIBSSH2_SESSION* session, std::string_view key, int type) const;

  // How long a request takes at least, in nanoseconds; 0: not known yet.
  Nanos round_trip() const { return round_trip_; }
  void note_round_trip(Nanos took) { round_trip_ = took; }

  std::string user() const;
  // Files of private keys to try, the one that was taken last first.
  std::vector<std::string> keys();
  void prefer(const std::string& key);

 private:
  [[noreturn]] void refuse_host(const HostKey& key, bool another) const;

  std::mutex mutex_;
  std::vector<std::string> keys_;
  std::atomic<Nanos> round_trip_ = 0;
};

}  // namespace kestrum
