// An SSH server of this machine's own (sshd), on loopback, that serves files to this user alone:
// for the demo.
#pragma once

#include <string>

namespace kestrum::demo {

class SftpServer {
 public:
  // Why there can be none here; empty if there can.
  static std::string why_not();

  // Its keys and settings go into `folder`, and into <folder>/home/.ssh the key that it lets in; it
  // is known to nobody yet. Throws Error(kFailed).
  explicit SftpServer(const std::string& folder);
  ~SftpServer();
  SftpServer(const SftpServer&) = delete;
  SftpServer& operator=(const SftpServer&) = delete;

  // sftp://user@127.0.0.1:2222 and so on, for an absolute path.
  std::string address(const std::string& path) const;
  // The home of whoever it lets in.
  std::string home() const { return folder_ + "/home"; }
  // A shell command that makes it known, as a person would who has compared its fingerprint.
  std::string make_known() const;

 private:
  std::string folder_, user_;
  int port_ = 0;
};

}  // namespace kestrum::demo
