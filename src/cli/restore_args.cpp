#include "restore_args.h"

#include <fmt/format.h>

#include <cstdio>
#include <initializer_list>
#include <utility>

#include "command.h"
#include "kestrum/base/error.h"
#include "kestrum/base/file.h"
#include "kestrum/base/text.h"
#include "mapping.h"
#include "questions.h"

namespace kestrum::cli {
namespace {

constexpr std::uint64_t kNamesLimit = 1 << 30;  // bytes

template <typename Value>
Value one_of(const Args& args, const char* option, const char* fallback,
             std::initializer_list<std::pair<const char*, Value>> words) {
  std::string text = args.get(option).value_or(fallback);
  std::string known;
  for (const auto& [word, value] : words) {
    if (text == word) return value;
    known += (known.empty() ? "" : ", ") + std::string(word);
  }
  throw Error(ErrorKind::kUsage,
              fmt::format("--{}: \"{}\" is not one of {}", option, printable(text), known));
}

// Names from a file or standard input: parted by NUL if there is one, otherwise by lines.
std::vector<std::string> read_names(const std::string& file) {
  std::string text;
  if (file == "-") {
    char buffer[65536];
    for (std::size_t n; (n = std::fread(buffer, 1, sizeof buffer, stdin)) > 0;) {
      text.append(buffer, n);
      if (text.size() > kNamesLimit) throw Error(ErrorKind::kUsage, "--names-in: too many names");
    }
  } else {
    text = read_file(file, kNamesLimit);
  }
  std::vector<std::string> names = split(text, text.find('\0') == std::string::npos ? '\n' : '\0');
  std::erase(names, "");
  if (names.empty()) throw Error(ErrorKind::kUsage, "--names-in: no names in " + printable(file));
  return names;
}

void read_bundle(const Args& args, bool tar, RestoreArgs& asked) {
  if (args.has("missing") || args.has("mirror") || args.has("rehearse")) {
    throw Error(ErrorKind::kUsage, "--missing, --mirror and --rehearse go with a folder",
                kRestoreUsage);
  }
  asked.bundle.emplace();
  asked.bundle->kind = tar ? BundleKind::kTar : BundleKind::kZip;
  asked.bundle->file = absolute_path(*args.get(tar ? "as-tar" : "as-zip"));
  asked.bundle->stop = stop_requested;
  asked.request.to = asked.bundle->file;
}

}  // namespace

RestoreArgs read_restore_args(const Context& context, const Args& args) {
  RestoreArgs asked;
  bool by_shelf = args.has("shelf");
  if (!by_shelf) args.expect(1, SIZE_MAX, kRestoreUsage);
  asked.paths.assign(args.positional().begin() + (by_shelf ? 0 : 1), args.positional().end());
  asked.typed = asked.paths.size();
  if (auto names = args.get("names-in")) {
    for (auto& name : read_names(*names)) asked.paths.push_back(std::move(name));
  }

  auto to = args.get("to");
  bool in_place = args.has("in-place");
  bool tar = args.has("as-tar"), zip = args.has("as-zip");
  if (in_place + to.has_value() + tar + zip > 1) {
    throw Error(ErrorKind::kUsage, "only one of --to, --in-place, --as-tar and --as-zip",
                kRestoreUsage);
  }
  if (tar || zip) read_bundle(args, tar, asked);
  if (args.has("protect") && !asked.bundle) {
    throw Error(ErrorKind::kUsage, "--protect goes with --as-tar or --as-zip", kRestoreUsage);
  }
  if (!in_place && !asked.bundle && (!to || to->empty())) {
    throw Error(ErrorKind::kUsage, "where to? restore never guesses: add --to DIR or --in-place",
                std::string("usage: ") + kRestoreUsage);
  }
  asked.to_stream = to == "-";
  if (to && !asked.to_stream) asked.request.to = absolute_path(*to);
  bool all = asked.paths.empty();
  if (in_place && all && !args.has("missing") && !args.has("everything") && !args.has("choose")) {
    throw Error(ErrorKind::kUsage, "the whole source in place? add --everything, or name a PATH",
                kRestoreUsage);
  }
  if (!all && args.has("everything")) {
    throw Error(ErrorKind::kUsage, "either PATH or --everything", kRestoreUsage);
  }
  asked.request.layout = one_of<Layout>(
      args, "layout", "trimmed",
      {{"trimmed", Layout::kTrimmed}, {"full", Layout::kFull}, {"flat", Layout::kFlat}});
  bool ask = can_ask(context) && !asked.to_stream;
  asked.request.clash = one_of<Clash>(args, "clash", ask ? "ask" : "skip",
                                      {{"ask", Clash::kAsk},
                                       {"skip", Clash::kSkip},
                                       {"replace", Clash::kReplace},
                                       {"both", Clash::kBoth},
                                       {"replace-older", Clash::kReplaceOlder}});
  if (asked.request.clash == Clash::kAsk && !ask) {
    throw Error(ErrorKind::kUsage, "--clash ask: nobody is there to be asked",
                "skip, replace, both or replace-older");
  }

  asked.request.owner = one_of<OwnerRule>(
      args, "owner", "names",
      {{"names", OwnerRule::kNames}, {"numbers", OwnerRule::kNumbers}, {"me", OwnerRule::kMe}});
  for (const auto& mapping : args.list("map")) asked.request.map.push_back(parse_mapping(mapping));
  asked.request.rehearse = args.has("rehearse");
  asked.request.exact = args.has("mirror");
  asked.request.stop = stop_requested;
  if (args.has("mirror") && (!in_place || asked.paths.size() != 1 || args.has("missing"))) {
    throw Error(ErrorKind::kUsage, "--mirror takes one folder, with --in-place",
                "kestrum restore NAME FOLDER --in-place --mirror");
  }
  if (args.has("missing") && args.has("shelf")) {
    throw Error(ErrorKind::kUsage, "--missing compares with this PC: it needs the job's NAME");
  }
  if (args.has("choose") && (args.has("missing") || args.has("mirror") || asked.to_stream ||
                             args.get("point") == "last-seen")) {
    throw Error(ErrorKind::kUsage,
                "--choose goes with one restore point and a folder: not with --missing, --mirror, "
                "--to - or last-seen",
                kRestoreUsage);
  }
  if (asked.to_stream && (context.json || all)) {
    throw Error(ErrorKind::kUsage, "--to - takes one file, without --json", kRestoreUsage);
  }
  return asked;
}

}  // namespace kestrum::cli
