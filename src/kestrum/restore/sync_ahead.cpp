#include "kestrum/restore/sync_ahead.h"

#include <unistd.h>

#include <system_error>
#include <utility>

namespace kestrum {

void SyncAhead::begin(std::uint64_t bytes, std::vector<std::shared_ptr<const Fd>> folders) {
  end();
  begun_at_ = bytes;
  under_way_ = true;
  try {
    thread_ = std::thread([this, folders = std::move(folders)] {
      for (const auto& folder : folders) ::syncfs(folder->get());
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
