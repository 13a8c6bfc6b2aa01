#include "kestrum/restore/made_folders.h"

#include <fcntl.h>
#include <signal.h>
#include <unistd.h>

#include <cerrno>
#include <cstdlib>

#include "kestrum/base/error.h"

namespace kestrum {
namespace {

constexpr const char* kLeft = "left";  // a journal of no process

}  // namespace

MadeFolders::MadeFolders(std::string folder) : folder_(std::move(folder)) {
  if (folder_.empty() || !path_exists(folder_)) return;
  for (const std::string& name : list_folder(folder_)) {
    int process = std::atoi(name.c_str());
    bool gone = process > 0 && ::kill(process, 0) != 0 && errno == ESRCH;
    if (!gone && name != kLeft) continue;
    journals_.push_back(folder_ + "/" + name);
    const std::string text = read_file(journals_.back());
    for (std::size_t at = 0; at < text.size();) {
      std::size_t end = text.find('\0', at);
      if (end == std::string::npos) break;  // it was killed while it wrote this one
      unfinished_.insert(text.substr(at, end - at));
      at = end + 1;
    }
  }
}

void MadeFolders::note(const std::string& path) {
  if (folder_.empty()) return;
  try {
    if (!file_) {
      make_folders(folder_);
      own_ = folder_ + "/" + std::to_string(::getpid());
      file_.reset(::open(own_.c_str(), O_WRONLY | O_CREAT | O_APPEND | O_CLOEXEC, 0600));
      if (!file_) throw system_error(errno, own_);
    }
    std::string text = path + '\0';
    if (::write(file_.get(), text.data(), text.size()) != static_cast<ssize_t>(text.size())) {
      throw system_error(errno, own_);
    }
  } catch (const Error&) {
    folder_.clear();
  }
}

bool MadeFolders::take_over(const std::string& path) {
  if (unfinished_.erase(path) == 0) return false;
  note(path);
  return true;
}

void MadeFolders::finish() {
  if (folder_.empty()) return;
  std::string left;  // what lies elsewhere waits for a restore that comes by
  for (const std::string& path : unfinished_) left += path + '\0';
  if (!left.empty()) write_file(folder_ + "/" + kLeft, left);
  for (const std::string& journal : journals_) {
    if (left.empty() || base_name(journal) != kLeft) ::unlink(journal.c_str());
  }
  if (!own_.empty()) ::unlink(own_.c_str());
  file_.reset();
}

}  // namespace kestrum
