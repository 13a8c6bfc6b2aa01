// Which files `look` and `trace` show.
#pragma once

#include <optional>
#include <string_view>

#include "args.h"
#include "kestrum/base/nanos.h"
#include "kestrum/select/only.h"

namespace kestrum::cli {

// The options that both commands take.
const std::vector<OptionSpec>& filter_options();

class FileFilter {
 public:
  // Throws Error(kUsage) naming the option that is wrong.
  FileFilter(const Args& args, Nanos now);

  // Whether anything is left out.
  bool active() const { return active_; }
  bool gone() const { return gone_; }
  // Of a regular file; `path` is relative to "/". What is gone is for the caller to know.
  bool takes(std::string_view path, std::uint64_t size, Nanos modified) const;

 private:
  std::optional<Nanos> after_, before_;
  std::optional<std::uint64_t> bigger_, smaller_;
  Only only_;
  bool gone_ = false, active_ = false;
};

}  // namespace kestrum::cli
