// What a restore says while it goes on, and at its end.
#pragma once

#include <fmt/format.h>

#include <cstdio>
#include <memory>
#include <optional>
#include <string>

#include "context.h"
#include "kestrum/base/text.h"
#include "kestrum/restore/restore.h"
#include "progress_line.h"

namespace kestrum::cli {

// A JSON list that may be longer than memory: it goes through a temporary file.
class JsonSpool {
 public:
  JsonSpool() : file_(std::tmpfile(), &std::fclose) {}
  void add(const Json& item) {
    fmt::print(file_.get(), "{}{}", count_++ == 0 ? "" : ",\n", item.dump());
  }
  void copy_to(std::FILE* out) {
    std::rewind(file_.get());
    char buffer[65536];
    for (std::size_t n; (n = std::fread(buffer, 1, sizeof buffer, file_.get())) > 0;) {
      std::fwrite(buffer, 1, n, out);
    }
  }

 private:
  std::unique_ptr<std::FILE, int (*)(std::FILE*)> file_;
  std::uint64_t count_ = 0;
};

class RestoreTeller : public RestoreObserver {
 public:
  RestoreTeller(const Context& context, bool rehearse);
  // Everything is written to a new file as well. Throws Error(kUsage) if it exists.
  void open_receipt(const std::string& file);

  void progress(const Progress& progress) override { line_.show(progress); }
  void note(const std::string& text) override { tell(printable(text)); }
  void restored(const std::string& path, const std::string& to, EntryType type,
                bool replaced) override;
  void skipped(const std::string& path, const std::string& to, const std::string& reason,
               bool already_right) override;
  void failed(const std::string& path, const std::string& reason, bool damage) override;
  // How many entries a PATH matched as it was typed; "" is everything.
  void matched(const std::string& typed, std::uint64_t entries);
  // From which restore point what follows comes.
  void from(const ReadSession& session, SetId set);

  void end() { line_.clear(); }
  void tell(const std::string& text);
  void receipt(const std::string& line);
  const std::string& only_path() const { return only_path_; }
  std::uint64_t files_restored() const { return files_; }  // so far
  void print_lists();                                      // JSON, after the head of the document

 private:
  Json item(const std::string& path, const std::string* to, const std::string& reason) const;
  void show(const char* what, const std::string& path, const std::string& reason);

  const Context& context_;
  bool rehearse_;
  ProgressLine line_;
  JsonSpool restored_, skipped_, failed_;
  std::unique_ptr<std::FILE, int (*)(std::FILE*)> receipt_{nullptr, &std::fclose};
  std::uint64_t shown_ = 0, files_ = 0;
  std::string only_path_, set_;
};

// Asks what to do about names that are taken; an answer may hold for all the rest.
std::function<Clash(const ClashSides&)> clash_questions(RestoreTeller& teller);
// Asks for a disk of the shelf, where somebody is there to bring it; empty otherwise.
std::function<bool(const std::vector<std::string>&)> disk_questions(const Context& context,
                                                                    RestoreTeller& teller);

}  // namespace kestrum::cli
