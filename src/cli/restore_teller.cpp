#include "restore_teller.h"

#include <fcntl.h>
#include <fmt/format.h>

#include "kestrum/base/below.h"
#include "kestrum/base/followed.h"
#include "kestrum/base/host_name.h"
#include "kestrum/base/text.h"
#include "kestrum/base/units.h"
#include "kestrum/machine/action_log.h"
#include "questions.h"

namespace kestrum::cli {
namespace {

constexpr std::uint64_t kFilesShown = 10;

std::FILE* new_receipt(const std::string& file) {
  std::string path = absolute_path(file);
  Fd folder = open_named(parent_of(path), O_PATH | O_DIRECTORY);
  Fd fd = folder ? below::create(folder.get(), base_name(path)) : Fd();
  if (!fd && errno == EEXIST) {
    throw Error(ErrorKind::kUsage, "--receipt: " + printable(file) + " exists already",
                "name a new file");
  }
  if (!fd) throw system_error(errno, file);
  return ::fdopen(fd.release(), "w");
}

}  // namespace

RestoreTeller::RestoreTeller(const Context& context, bool rehearse)
    : context_(context), rehearse_(rehearse), line_(context.quiet) {}

void RestoreTeller::open_receipt(const std::string& file) {
  receipt_.reset(new_receipt(file));
  receipt(fmt::format("{} on {}, by {}", format_local_day(context_.clock.now()), host_name(),
                      printable(acting_user())));
}

void RestoreTeller::from(const ReadSession& session, SetId set) {
  set_ = set.to_string();
  std::string text = fmt::format("from {} of {} (set {})", session.job_name(),
                                 format_local(session.set(set).started), session.name_of(set));
  if (!context_.quiet) tell(text);
  receipt(text);
}

void RestoreTeller::restored(const std::string& path, const std::string& to, EntryType type,
                             bool replaced) {
  if (context_.json) restored_.add(item(path, &to, replaced ? "replaced what was there" : ""));
  if (type == EntryType::kFolder) return;
  ++files_;
  if (only_path_.empty()) only_path_ = to;
  if (receipt_) receipt((replaced ? "replaced " : "restored ") + printable(to));
  bool list = rehearse_ && ++shown_ <= kFilesShown;
  if (rehearse_ && shown_ == kFilesShown + 1) tell("and more; --verbose names them all");
  if ((context_.verbose || list) && !context_.json) {
    line_.clear();
    context_.tell_data(rehearse_ ? replaced ? "would replace " : "would write " : "restored ",
                       printable(to));
  }
}

void RestoreTeller::skipped(const std::string& path, const std::string& to,
                            const std::string& reason, bool already_right) {
  if (context_.json) skipped_.add(item(path, &to, reason));
  receipt("skipped " + printable(to) + ": " + printable(reason));
  if (!already_right) show("skipped", to, reason);
}

void RestoreTeller::failed(const std::string& path, const std::string& reason, bool) {
  if (context_.json) failed_.add(item(path, nullptr, reason));
  receipt("FAILED " + printable(path) + ": " + printable(reason));
  show("failed", path, reason);
}

void RestoreTeller::print_lists() {
  for (auto [name, spool] :
       {std::pair{"restored", &restored_}, {"skipped", &skipped_}, {"failed", &failed_}}) {
    fmt::print(",\n\"{}\": [", name);
    spool->copy_to(stdout);
    fmt::print("]");
  }
}

void RestoreTeller::receipt(const std::string& line) {
  if (receipt_) fmt::print(receipt_.get(), "{}\n", line);
}

Json RestoreTeller::item(const std::string& path, const std::string* to,
                         const std::string& reason) const {
  Json json;
  put_name(json, "path", path);
  if (to != nullptr) put_name(json, "to", *to);
  if (!reason.empty()) json["reason"] = printable(reason);
  json["set"] = set_;
  return json;
}

void RestoreTeller::show(const char* what, const std::string& path, const std::string& reason) {
  if (++shown_ <= kFilesShown || context_.verbose) {
    line_.clear();
    context_.tell_data(std::string(what) + ": ", printable(path), ": " + printable(reason));
  } else if (shown_ == kFilesShown + 1) {
    tell("and more; --verbose names them all");
  }
}

void RestoreTeller::matched(const std::string& typed, std::uint64_t count) {
  if (context_.quiet) return;
  std::string entries = counted(count, "entry", "entries");
  tell(typed.empty() ? "everything: " + entries : printable(typed) + " matches " + entries);
}

void RestoreTeller::tell(const std::string& text) {
  line_.clear();
  context_.tell(text);
}

std::function<bool(const std::vector<std::string>&)> disk_questions(const Context& context,
                                                                    RestoreTeller& teller) {
  if (!can_ask(context)) return {};
  return [&teller](const std::vector<std::string>& disks) {
    teller.end();
    std::string names;
    for (const std::string& disk : disks) names += (names.empty() ? "" : " or ") + printable(disk);
    teller.tell("what is left lies on " + names + "; the disk that was read from can go out");
    return ask("Plug it in and press Enter (\"stop\": without it)", "go on") != "stop";
  };
}

std::function<Clash(const ClashSides&)> clash_questions(RestoreTeller& teller) {
  auto for_all = std::make_shared<std::optional<Clash>>();
  return [&teller, for_all](const ClashSides& sides) {
    if (*for_all) return **for_all;
    teller.end();
    bool restored_newer = sides.time_restored > sides.time_there;
    fmt::print(stderr, "{} exists already\n", printable(sides.path));
    fmt::print(stderr, "  there     {:>9}  {}{}\n", format_size(sides.size_there),
               format_local(sides.time_there), restored_newer ? "" : "  newer");
    fmt::print(stderr, "  restored  {:>9}  {}{}\n", format_size(sides.size_restored),
               format_local(sides.time_restored), restored_newer ? "  newer" : "");
    std::size_t answer = ask_choice("What now?",
                                    {"keep what is there", "replace it", "keep both",
                                     "keep all that are there", "replace all", "keep both of all"},
                                    0);
    Clash clash = answer % 3 == 0 ? Clash::kSkip : answer % 3 == 1 ? Clash::kReplace : Clash::kBoth;
    if (answer >= 3) *for_all = clash;
    return clash;
  };
}

}  // namespace kestrum::cli
