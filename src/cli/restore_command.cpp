#include <fmt/format.h>

#include <cstdio>
#include <memory>

#include "command.h"
#include "kestrum/base/file.h"
#include "kestrum/base/text.h"
#include "kestrum/engine/restore.h"
#include "read_observer.h"
#include "table.h"

namespace kestrum::cli {
namespace {

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

constexpr std::uint64_t kLinesShown = 10;

class RestoreTeller : public RestoreObserver {
 public:
  explicit RestoreTeller(const Context& context) : context_(context), line_(context.quiet) {}

  void progress(const Progress& progress) override { line_.show(progress); }
  void note(const std::string& text) override { tell(printable(text)); }
  void matched(const std::string& typed, std::uint64_t files) override {
    if (context_.quiet) return;
    std::string entries = counted(files, "entry", "entries");
    tell(typed.empty() ? "everything: " + entries : printable(typed) + " matches " + entries);
  }
  void restored(const std::string& path, const std::string& to, EntryType type) override {
    if (context_.json) restored_.add(item(path, &to, ""));
    if (type == EntryType::kFolder) return;
    if (only_path_.empty()) only_path_ = to;
    if (context_.verbose && !context_.json) tell("restored " + printable(to));
  }
  void skipped(const std::string& path, const std::string& to, const std::string& reason,
               bool already_right) override {
    if (context_.json) skipped_.add(item(path, &to, reason));
    if (!already_right) show("skipped", to, reason);
  }
  void failed(const std::string& path, const std::string& reason, bool) override {
    if (context_.json) failed_.add(item(path, nullptr, reason));
    show("failed", path, reason);
  }

  void end() { line_.clear(); }
  const std::string& only_path() const { return only_path_; }
  void print_lists() {
    for (auto [name, spool] :
         {std::pair{"restored", &restored_}, {"skipped", &skipped_}, {"failed", &failed_}}) {
      fmt::print(",\n\"{}\": [", name);
      spool->copy_to(stdout);
      fmt::print("]");
    }
  }

 private:
  static Json item(const std::string& path, const std::string* to, const std::string& reason) {
    Json json;
    put_name(json, "path", path);
    if (to != nullptr) put_name(json, "to", *to);
    if (!reason.empty()) json["reason"] = printable(reason);
    return json;
  }
  void show(const char* what, const std::string& path, const std::string& reason) {
    if (++shown_ <= kLinesShown || context_.verbose) {
      tell(fmt::format("{}: {}: {}", what, printable(path), printable(reason)));
    } else if (shown_ == kLinesShown + 1) {
      tell("and more; --verbose names them all");
    }
  }
  void tell(const std::string& text) {
    line_.clear();
    context_.tell(text);
  }

  const Context& context_;
  ProgressLine line_;
  JsonSpool restored_, skipped_, failed_;
  std::uint64_t shown_ = 0;
  std::string only_path_;
};

Layout parse_layout(const Args& args) {
  std::string text = args.get("layout").value_or("trimmed");
  if (text == "trimmed") return Layout::kTrimmed;
  if (text == "full") return Layout::kFull;
  if (text == "flat") return Layout::kFlat;
  throw Error(ErrorKind::kUsage,
              "--layout: \"" + printable(text) + "\" is not trimmed, full or flat");
}

}  // namespace

int restore_files(const Context& context, const Args& args) {
  const std::string usage = "kestrum restore NAME [PATH...] --to DIR [--as-of TIME]";
  bool by_shelf = args.has("shelf");
  if (!by_shelf) args.expect(1, SIZE_MAX, usage);
  RestoreRequest request;
  request.layout = parse_layout(args);
  if (auto clash = args.get("clash"); clash && *clash != "skip") {
    throw Error(ErrorKind::kUsage, "--clash: only skip so far, not \"" + printable(*clash) + "\"",
                "nothing is ever overwritten; restore to another folder");
  }
  auto to = args.get("to");
  if (!to || to->empty()) {
    throw Error(ErrorKind::kUsage, "where to? restore never guesses: add --to DIR",
                "usage: " + usage);
  }
  request.to = absolute_path(*to);
  request.paths.assign(args.positional().begin() + (by_shelf ? 0 : 1), args.positional().end());
  request.stop = stop_requested;

  RestoreTeller teller(context);
  ReadSession session(context.machine(), read_options(context, args, usage, true), teller);
  auto as_of = args.get("as-of");
  if (as_of == "last-seen") {
    if (request.paths.size() != 1) {
      throw Error(ErrorKind::kUsage, "--as-of last-seen takes one PATH at a time", usage);
    }
    bool anchored = false;
    auto seen = session.last_seen(stored_form(request.paths[0], anchored));
    if (!seen) {
      throw Error(ErrorKind::kNoMatch, printable(request.paths[0]) + ": never seen",
                  "give the whole path, such as /home/frontdesk/Documents/rota.ods");
    }
    request.set = *seen;
  } else {
    request.set = session.choose(as_of, context.clock.now());
  }
  const IndexedSet& set = session.set(request.set);
  if (!context.quiet) {
    context.tell(fmt::format("from {} of {} (set {})", session.job_name(),
                             format_local(set.started), request.set.to_string()));
  }
  RestoreResult result = restore(session, request, teller);
  teller.end();

  int exit = result.damaged > 0                                                  ? 4
             : result.failed > 0                                                 ? 3
             : result.skipped + result.unset.attributes + result.unset.modes > 0 ? 1
                                                                                 : 0;
  if (context.json) {
    Json head = {{"kestrum", 1}, {"job", session.job_name()}, {"set", request.set.to_string()}};
    std::string text = head.dump();
    text.pop_back();
    fmt::print("{}", text);
    teller.print_lists();
    fmt::print("}}\n");
    return exit;
  }
  std::string where = result.files == 1 ? teller.only_path() : request.to;
  context.say(fmt::format("restored {} ({}) from {} to {}", counted(result.files, "file"),
                          format_size(result.bytes), format_local(set.started), printable(where)));
  auto also = [&](std::uint64_t count, const std::string& text) {
    if (count > 0) context.say(fmt::format("  {} {}", format_count(count), text));
  };
  also(result.already_right, "already there, the same");
  also(result.skipped, "skipped: they exist already, and nothing is overwritten");
  also(result.failed, "failed");
  also(result.unset.owners, "keep you as their owner: only root can set another");
  also(result.unset.attributes, "attributes could not be set");
  return exit;
}

}  // namespace kestrum::cli
