// The one error type: what stops an operation. What happens file by file is reported as values.
#pragma once

#include <cstdint>
#include <exception>
#include <string>

namespace kestrum {

// Each kind is the exit code that the program ends with.
enum class ErrorKind {
  kUsage = 2,       // the command line or a job file is wrong, unknown job, no target
  kFailed = 3,      // an operation failed
  kDamage = 4,      // something on a shelf is damaged or forged
  kPlace = 5,       // destination absent, another disk, or taken over by another machine
  kNoRoom = 6,      // not enough room
  kPassphrase = 7,  // passphrase missing or wrong
  kBusy = 8,        // the job is running already
  kNoMatch = 9,     // nothing matched, or no such restore point
  kStopped = 130,   // stopped by the user
};

class Error : public std::exception {
 public:
  // `message` names the object concerned and fits a line; `hint` says what to do about it, or is
  // empty.
  Error(ErrorKind kind, std::string message, std::string hint = {})
      : kind_(kind), message_(std::move(message)), hint_(std::move(hint)) {}

  const char* what() const noexcept override { return message_.c_str(); }
  ErrorKind kind() const { return kind_; }
  int exit_code() const { return static_cast<int>(kind_); }
  const std::string& message() const { return message_; }
  const std::string& hint() const { return hint_; }

  // Something else to do about it.
  Error& add_hint(const std::string& hint);
  // The job and the path concerned, where there is one; for machine-readable output.
  Error& about_job(std::string job);
  Error& about_path(std::string path);
  const std::string& job() const { return job_; }
  const std::string& path() const { return path_; }

  // What is missing may come by itself, such as a disk that is plugged in: worth waiting for.
  Error& may_come();
  bool worth_waiting() const { return worth_waiting_; }

  // A later version of the program wrote what could not be understood: nothing is wrong with it.
  Error& because_newer();
  bool newer() const { return newer_; }

 private:
  ErrorKind kind_;
  std::string message_, hint_, job_, path_;
  bool worth_waiting_ = false, newer_ = false;
};

// An Error for a failed system call: `what` names the object, the text of `error_number` follows.
// ENOSPC and EDQUOT give kNoRoom; everything else gives `kind`.
Error system_error(int error_number, const std::string& what, ErrorKind kind = ErrorKind::kFailed);

// Error numbers of our own, beside the system's: what should be a file or a folder is something
// else (a device, a FIFO), and a link that must not be followed (base/followed.h).
inline constexpr int kNotRegular = 100001;
inline constexpr int kForeignLink = 100002;

// The text for an errno value or one of these, such as "Permission denied".
std::string errno_text(int error_number);

// Of several exit codes the one that a command ends with: the first that applies of
// 130, 4, 3, 6, 5, 7, 8, 2, 9, 1, 0.
int worse_exit(int a, int b);

}  // namespace kestrum
