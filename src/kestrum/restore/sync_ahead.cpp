#include "kestrum/restore/sync_ahead.h"

#include <unistd.h>

#include <system_error>
#include <utility>

#include "kestrum/base/clock.h"

namespace kestrum {
namespace {

constexpr Nanos kQuick = kSecond;

}  // namespace

void SyncAhead::begin(std::uint64_t bytes, std::vector<std::shared_ptr<const Fd>> folders) {
  end();
  begun_at_ = bytes;
  under_way_ = true;
  try {
    thread_ = std::thread([this, folders = std::move(folders)] {
      Nanos began = steady_now();
      for (const auto& folder : folders) ::syncfs(folder->get());
      if (steady_now() - began > kQuick) quick_ = false;
      under_way_ = false;
    });
  } catch (const std::system_error&) {  // no thread to be had
    under_way_ = false;
  }
}

void SyncAhead::end() {
  if (thread_.joinable()) thread_.join();
}

}  // namespace kestrum
