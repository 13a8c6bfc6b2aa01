#include "kestrum/plan/walk_ahead.h"

#include <utility>

#include "kestrum/select/source_file.h"

namespace kestrum {
namespace {

constexpr std::size_t kEventsAlone = 2000;  // before there is a thread
// A batch of events, which holds their folders open and may hold files' content; and how many wait
// at most.
constexpr std::size_t kBatchEvents = 512, kBatchFolders = 64, kWaitingBatches = 3;
constexpr std::size_t kBatchBytes = 1 << 20;
constexpr off_t kReadAheadUpTo = 256 << 10;

}  // namespace

WalkAhead::WalkAhead(Walk& walk, Wanted wanted) : walk_(walk), wanted_(std::move(wanted)) {}

bool WalkAhead::next(WalkEvent& event) {
  if (!ahead_ && taken_ < kEventsAlone) {
    ++taken_;
    return walk_.next(event);
  }
  if (!ahead_) ahead_.emplace([this](auto& batch) { return walk(batch); }, kWaitingBatches);
  event.let_go();  // it goes back
  return ahead_->next(event);
}

bool WalkAhead::walk(Ahead<WalkEvent>::Batch& batch) {
  std::size_t bytes = 0, folders = 0;
  while (batch.size() < kBatchEvents && folders < kBatchFolders && bytes < kBatchBytes) {
    WalkEvent& event = batch.add();
    if (!walk_.next(event)) {
      batch.drop_last();
      return false;
    }
    bool file = event.kind == WalkEvent::Kind::kEntry && S_ISREG(event.st.st_mode);
    if (file && wanted_ && wanted_(event)) event.ahead = read_ahead(event, unsure_);
    if (event.ahead) bytes += event.ahead->content.size();
    bool first = batch.size() == 1;
    folders += first || !batch[batch.size() - 2].at.has_folder_of(event.at) ? 1 : 0;
  }
  return true;
}

std::shared_ptr<const FileAhead> read_ahead(const WalkEvent& event, UnsureFiles& unsure) {
  if (event.st.st_size == 0 || event.st.st_size > kReadAheadUpTo) return nullptr;
  Fd fd = event.at.open_file();
  auto file = std::make_shared<FileAhead>();
  struct stat& st = file->st;
  if (!fd || ::fstat(fd.get(), &st) != 0 || !S_ISREG(st.st_mode)) return nullptr;
  bool has_holes = st.st_blocks * 512 < st.st_size;
  if (st.st_size == 0 || st.st_size > kReadAheadUpTo || has_holes) return nullptr;
  file->attributes = file_xattrs(fd.get());
  // One more than there should be: a file that grew shows it.
  std::size_t room = static_cast<std::size_t>(st.st_size) + 1;
  file->bytes = std::make_unique_for_overwrite<std::uint8_t[]>(room);
  ssize_t length = read_some(fd.get(), 0, {file->bytes.get(), room});
  struct stat after {};
  bool steady = length == st.st_size && ::fstat(fd.get(), &after) == 0 && same_stat(st, after);
  if (!steady) return nullptr;
  file->content = {file->bytes.get(), static_cast<std::size_t>(length)};
  file->unsure = unsure.is_unsure(st, fd.get());
  return file;
}

}  // namespace kestrum
