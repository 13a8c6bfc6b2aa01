#include "kestrum/mail/outbox.h"

#include <fcntl.h>
#include <fmt/format.h>
#include <sys/file.h>
#include <unistd.h>

#include <algorithm>

#include "kestrum/base/clock.h"
#include "kestrum/base/error.h"
#include "kestrum/base/file.h"
#include "kestrum/base/text.h"
#include "kestrum/mail/smtp.h"

namespace kestrum {
namespace {

constexpr std::size_t kMostKept = 200;
constexpr std::uint64_t kMessageLimit = 64 << 20;  // bytes
constexpr std::string_view kEnding = ".mail";

// One process at a time; nothing if another has it and `wait` is false.
Fd lock_outbox(const std::string& folder, bool wait) {
  make_folders(folder);
  Fd lock(::open((folder + "/lock").c_str(), O_RDWR | O_CREAT | O_CLOEXEC, 0600));
  if (!lock) throw system_error(errno, folder);
  if (::flock(lock.get(), LOCK_EX | (wait ? 0 : LOCK_NB)) != 0) lock.reset();
  return lock;
}

}  // namespace

std::vector<std::string> Outbox::names() const {
  std::vector<std::string> names;
  if (!is_folder(folder_)) return names;
  for (const std::string& name : list_folder(folder_)) {
    if (name.ends_with(kEnding)) names.push_back(name);
  }
  std::sort(names.begin(), names.end());
  return names;
}

std::size_t Outbox::waiting() const {
  return names().size();
}

void Outbox::put(const MailMessage& message) const {
  make_folders(folder_);
  // Numbered by what is there: no clock says for certain what came first.
  std::vector<std::string> kept = names();
  std::uint32_t number = kept.empty() ? 0 : parse_number(kept.back().substr(0, 9)).value_or(0);
  std::string path;
  Fd fd;
  while (!fd) {
    path = fmt::format("{}/{:09}{}", folder_, ++number, kEnding);
    fd.reset(::open(path.c_str(), O_WRONLY | O_CREAT | O_EXCL | O_CLOEXEC, 0600));
    if (!fd && errno != EEXIST) throw system_error(errno, path);
  }
  try {
    write_file(path, message.to_json());
  } catch (const Error&) {
    ::unlink(path.c_str());
    throw;
  }
  for (std::size_t i = 0; i + kMostKept <= kept.size(); ++i) {
    ::unlink((folder_ + "/" + kept[i]).c_str());
  }
}

Outbox::Sent Outbox::send(const MailSettings& settings, Nanos limit) const {
  Sent result;
  Nanos end = steady_now() + limit;
  try {
    // Before anything waits, there is no folder to make.
    if (names().empty()) return result;
    Fd lock = lock_outbox(folder_, false);
    if (!lock) return result;
    for (const std::string& name : names()) {
      std::string path = folder_ + "/" + name;
      MailMessage message;
      try {
        message = MailMessage::parse(read_file(path, kMessageLimit), path);
      } catch (const Error&) {
        ::unlink(path.c_str());  // half-written: whoever wrote it was cut off
        continue;
      }
      SendResult sent = send_mail(settings, message, end - steady_now());
      if (!sent.sent) {
        result.problem = sent.reason;
        if (sent.refused) continue;  // the next may be for somebody else
        break;
      }
      ::unlink(path.c_str());
      ++result.sent;
    }
  } catch (const Error& error) {
    result.problem = error.message();
  }
  result.left = names().size();
  return result;
}

}  // namespace kestrum
