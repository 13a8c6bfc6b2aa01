#include "kestrum/remote/ssh_access.h"

#include <fmt/format.h>
#include <pwd.h>
#include <unistd.h>

#include <algorithm>
#include <array>
#include <memory>
#include <utility>

#include "kestrum/base/base64.h"
#include "kestrum/base/followed.h"
#include "kestrum/base/text.h"

namespace kestrum {
namespace {

constexpr Nanos kFarRoundTrip = kSecond / 100;
constexpr Nanos kConnectingRoundTrips = 14;  // about nine, where all else takes no time

constexpr std::array<const char*, 3> kUsualKeys = {"id_ed25519", "id_ecdsa", "id_rsa"};

}  // namespace

SshAccess::SshAccess(RemoteAddress address) : RemoteServer(std::move(address)) {
  if (!settings_.key.empty()) {
    keys_ = {settings_.key};
    return;
  }
  for (const char* name : kUsualKeys) {
    std::string path = ssh_folder() + "/" + name;
    if (is_named(path)) keys_.push_back(path);
  }
}

bool SshAccess::is_far() const {
  return round_trip_ >= kFarRoundTrip && connecting_ <= kConnectingRoundTrips * round_trip_;
}

std::string SshAccess::known_hosts() const {
  return settings_.known_hosts.empty() ? ssh_folder() + "/known_hosts" : settings_.known_hosts;
}

void SshAccess::refuse_host(const HostKey& key, bool another) const {
  if (another) {
    throw Error(ErrorKind::kPlace,
                fmt::format("{}: its host key is not the one in {}: {} {}", key.host,
                            printable(known_hosts()), printable(key.kind), key.fingerprint),
                "somebody may stand in between, or the server was set up anew; nothing was sent. "
                "When whoever runs it confirms the new one: ssh-keygen -R " +
                    key.host)
        .about_path(url("/"));
  }
  throw Error(
      ErrorKind::kPlace,
      fmt::format("{}: its host key is not known: {} {}", key.host, printable(key.kind),
                  key.fingerprint),
      "compare it with what the server says of itself (ssh-keygen -lf /etc/ssh/ssh_host_..._key.pub"
      " there); on a terminal job new and shelf start ask, and know it from then on")
      .about_path(url("/"));
}

void SshAccess::check_host(const KnownKeys& known, ssh_key key) const {
  KnownKeys::Answer answer = known.ask(key);
  if (answer == KnownKeys::Answer::kSame) return;
  bool another = answer == KnownKeys::Answer::kAnother;
  char* text = nullptr;
  ssh_pki_export_pubkey_base64(key, &text);
  std::unique_ptr<char, decltype(&ssh_string_free_char)> freed(text, ssh_string_free_char);
  HostKey offered = host_key(address_, base64_decode(text == nullptr ? "" : text).value_or(""));
  const auto& accept = remote_context().accept;
  if (another || !accept || !accept(offered)) refuse_host(offered, another);
  add_known_host(known_hosts(), offered);
}

std::string SshAccess::user() const {
  if (!address_.user.empty()) return address_.user;
  const passwd* person = ::getpwuid(::geteuid());
  return person == nullptr || person->pw_name == nullptr ? "" : person->pw_name;
}

std::vector<std::string> SshAccess::keys() {
  std::lock_guard lock(mutex_);
  return keys_;
}

void SshAccess::prefer(const std::string& key) {
  std::lock_guard lock(mutex_);
  auto it = std::find(keys_.begin(), keys_.end(), key);
  if (it != keys_.end()) std::rotate(keys_.begin(), it, it + 1);
}

}  // namespace kestrum
