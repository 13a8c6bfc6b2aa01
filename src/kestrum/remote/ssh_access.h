// A server that is reached by SSH: who it must be, and whom it lets in.
#pragma once

#include <libssh/libssh.h>

#include <atomic>
#include <mutex>
#include <string>
#include <vector>

#include "kestrum/remote/host_key.h"
#include "kestrum/remote/remote_server.h"

namespace kestrum {

class SshAccess : public RemoteServer {
 public:
  explicit SshAccess(RemoteAddress address);

  std::string known_hosts() const;  // the file
  // Throws Error(kPlace) unless the host is known by the key that it offers, or becomes so now.
  void check_host(const KnownKeys& known, ssh_key offered) const;

  // How long a request takes at least, in nanoseconds; 0: not known yet.
  Nanos round_trip() const { return round_trip_; }
  void note_round_trip(Nanos took) { shorten(round_trip_, took); }
  // How long connecting takes at least, login and all.
  void note_connecting(Nanos took) { shorten(connecting_, took); }
  // Whether connecting, too, is mostly waiting for a server far away: then another connection costs
  // little, and saves much. Where it is work, for a machine that is busy, it does not.
  bool is_far() const;

  std::string user() const;
  // Files of private keys to try, the one that was taken last first.
  std::vector<std::string> keys();
  void prefer(const std::string& key);

 private:
  static void shorten(std::atomic<Nanos>& known, Nanos took) {
    if (known == 0 || took < known) known = took;
  }
  [[noreturn]] void refuse_host(const HostKey& key, bool another) const;

  std::mutex mutex_;
  std::vector<std::string> keys_;
  std::atomic<Nanos> round_trip_ = 0, connecting_ = 0;
};

}  // namespace kestrum
