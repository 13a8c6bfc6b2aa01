#include <fmt/format.h>
#include <unistd.h>

#include <algorithm>
#include <set>

#include "choose_list.h"
#include "command.h"
#include "kestrum/access/job_reader.h"
#include "kestrum/access/paths_ever.h"
#include "kestrum/access/resolve_path.h"
#include "kestrum/base/file.h"
#include "kestrum/base/followed.h"
#include "kestrum/base/shell_word.h"
#include "kestrum/base/text.h"
#include "kestrum/base/units.h"
#include "kestrum/place/local_place.h"
#include "kestrum/restore/bundle.h"
#include "kestrum/restore/mirror.h"
#include "kestrum/restore/missing.h"
#include "kestrum/select/path_order.h"
#include "questions.h"
#include "restore_args.h"
#include "restore_teller.h"

namespace kestrum::cli {
namespace {

constexpr std::uint64_t kMovesShown = 5;

// The deepest folder that holds all of these paths, all relative to "/".
std::string shared_folder_of(const std::vector<std::string>& paths) {
  std::optional<std::string> shared;
  for (const auto& path : paths) {
    while (shared && !shared->empty() && !is_within(path, *shared)) *shared = folder_above(*shared);
    if (!shared) shared = path;
  }
  return shared.value_or("");
}

// On the disk of a folder that may have to be made.
Room room_at(std::string folder) {
  while (!is_named_folder(folder)) folder = parent_of(folder);
  return LocalPlace(folder).room().value();
}

// What became of the entries, and what could not be set of them, where there is anything to say.
std::vector<std::string> counts_in_words(const RestoreResult& result, std::uint64_t moved) {
  std::vector<std::string> lines;
  const UnsetMetadata& unset = result.unset;
  auto also = [&](std::uint64_t count, const std::string& text) {
    if (count > 0) lines.push_back(fmt::format("  {} {}", format_count(count), text));
  };
  also(result.replaced, "of them in the place of what was there");
  also(result.already_right, "already there, the same");
  also(moved, "not missing: they have another name now");
  also(result.skipped, "skipped: they exist already (--clash says what else to do)");
  also(result.failed, "failed");
  also(unset.owners, "keep you as their owner: only root can set another");
  also(unset.unmatched, "owners or groups have no name here: their numbers were used");
  also(unset.attributes, "attributes could not be set");
  also(unset.privileges, "without their setuid bits: no signature vouches for this shelf");
  return lines;
}

class RestoreCommand {
 public:
  RestoreCommand(const Context& context, const Args& args)
      : context_(context), args_(args), teller_(context, args.has("rehearse")) {
    RestoreArgs asked = read_restore_args(context, args);
    request_ = std::move(asked.request);
    asked_map_ = request_.map;
    request_.ask = clash_questions(teller_);
    request_.bring_disk = disk_questions(context, teller_);
    request_.journals = context_.machine().folder() + "/restores";
    bundle_ = std::move(asked.bundle);
    paths_ = std::move(asked.paths);
    typed_ = asked.typed;
    to_stream_ = asked.to_stream;
  }

  int run() {
    JobReader reader(context_.machine(), read_options(context_, args_, kRestoreUsage, true),
                     teller_);
    job_ = reader.job_name();
    if (auto receipt = args_.get("receipt"); receipt && !request_.rehearse) {
      teller_.open_receipt(*receipt);
    }
    if (to_stream_) return stream(reader);
    try {
      restore_all(reader);
    } catch (const Error& error) {
      teller_.end();
      if (error.kind() != ErrorKind::kStopped || bundle_ || request_.rehearse) throw;
      throw stopped_so_far();
    }
    teller_.end();
    if (nothing_marked_ && !context_.json) {
      context_.say("nothing was marked; nothing was restored");
      return 0;
    }
    return tell_end();
  }

 private:
  void restore_all(JobReader& reader) {
    if (args_.has("missing")) {
      restore_missing(reader);
    } else if (args_.get("point") == "last-seen") {
      restore_last_seen(reader);
    } else {
      JobReader::Point point = reader.choose(args_.get("point"), context_.clock.now());
      ReadSession& session = *point.session;
      set_ = point.set;
      if (!passphrase_given(args_)) {  // a slip is told before anybody has to type
        RestoreSelection meant(session, set_);
        for (const std::string& path : paths_) meant.add(path);
      }
      session.unlock_content();
      forget_environment_passphrase();
      lies_elsewhere_ = reader.lacks_later();
      disk_ = session.disk();
      if (args_.has("mirror")) set_aside(session);
      from_ = " from " + format_local(session.set(set_).started);
      names_only_ = session.names_only(set_);
      lacks_newest_ = !names_only_ && session.lacks_newest() &&
                      args_.get("point").value_or("newest") == "newest";
      if (args_.has("choose") && !choose_by_hand(session)) return;
      restore_from(session, set_, paths_);
    }
  }

  // False if nothing was marked.
  bool choose_by_hand(ReadSession& session) {
    std::vector<std::string> folders;
    for (const std::string& typed : paths_) folders.push_back(resolve_path(session, set_, typed));
    if (paths_.empty()) {
      for (const auto& root : session.set(set_).roots) folders.push_back(root.path.substr(1));
    }
    paths_ = choose_in_editor(context_, session, set_, in_path_order(folders));
    typed_ = 0;
    chosen_already_ = true;
    nothing_marked_ = paths_.empty();
    if (!nothing_marked_) teller_.tell(counted(paths_.size(), "entry", "entries") + " marked");
    return !nothing_marked_;
  }

  Error stopped_so_far() {
    std::uint64_t files = teller_.files_restored();
    std::string text = files == 0
                           ? "stopped; no file was restored"
                           : fmt::format("stopped; {} {} restored before that",
                                         counted(files, "file"), files == 1 ? "was" : "were");
    teller_.receipt(text);
    if (!aside_.empty()) teller_.receipt(aside_);
    return Error(ErrorKind::kStopped, text, aside_);
  }

  void choose(RestoreSelection& selection, const std::vector<std::string>& paths) {
    if (paths.empty()) {
      teller_.matched("", selection.add(""));
      return;
    }
    std::uint64_t named = 0;
    for (std::size_t i = 0; i < paths.size(); ++i) {
      std::uint64_t matched = selection.add(paths[i]);
      if (chosen_already_) continue;
      if (i < typed_) {
        teller_.matched(paths[i], matched);
      } else {
        named += matched;
      }
    }
    if (paths.size() > typed_ && !chosen_already_) teller_.matched("--names-in", named);
  }

  void restore_from(ReadSession& session, SetId set, const std::vector<std::string>& paths) {
    teller_.from(session, set);
    RestoreSelection selection(session, set);
    choose(selection, paths);
    request_.map = map_for(session, set);
    if (!bundle_) {
      result_ += restore(session, selection, request_, teller_);
      return;
    }
    bundle_->layout = request_.layout;
    if (args_.has("protect")) bundle_->passphrase = another_passphrase(args_, bundle_->file);
    result_ += write_bundle(session, selection, *bundle_, teller_);
  }

  // What was asked for, and in place what a claim was told.
  FolderMap map_for(ReadSession& session, SetId set) {
    FolderMap map = asked_map_;
    if (bundle_ || !request_.to.empty()) return map;
    for (const auto& folder : session.folders_here(set)) {
      bool asked = std::any_of(asked_map_.begin(), asked_map_.end(),
                               [&](const auto& pair) { return pair.first == folder.first; });
      if (asked) continue;
      map.push_back(folder);
      if (told_maps_.insert(folder.first).second && !context_.quiet) {
        teller_.tell("what lay in " + printable(folder.first) + " goes to " +
                     printable(folder.second) + ", as the claim was told");
      }
    }
    return map;
  }

  // Each path from the newest restore point that holds it.
  void restore_last_seen(JobReader& reader) {
    if (paths_.empty()) {
      throw Error(ErrorKind::kUsage, "--point last-seen takes the PATHs that are meant",
                  kRestoreUsage);
    }
    struct Group {
      JobReader::Point point;
      std::vector<std::string> paths;
      Nanos taken() const { return point.session->set(point.set).started; }
    };
    std::vector<Group> groups;
    std::vector<std::string> holding;
    for (std::size_t i = 0; i < paths_.size(); ++i) {
      std::vector<PathAt> found = last_seen_of(reader, paths_[i]);
      if (i < typed_) teller_.matched(paths_[i], found.size());
      for (const PathAt& seen : found) {
        auto group = std::find_if(groups.begin(), groups.end(), [&](const Group& g) {
          return g.point.session == seen.point.session && g.point.set == seen.point.set;
        });
        if (group == groups.end()) group = groups.insert(group, {seen.point, {}});
        group->paths.push_back("/" + seen.path);
        holding.push_back(seen.is_folder ? seen.path : folder_above(seen.path));
        tell_if_later_elsewhere(reader, seen.path, group->taken());
      }
    }
    for (const Group& group : groups) group.point.session->unlock_content();
    forget_environment_passphrase();
    std::stable_sort(groups.begin(), groups.end(),
                     [](const Group& a, const Group& b) { return b.taken() < a.taken(); });
    chosen_already_ = true;
    request_.shared = shared_folder_of(holding);
    for (const Group& group : groups) {
      if (&group == &groups.front()) set_ = group.point.set;
      restore_from(*group.point.session, group.point.set, group.paths);
    }
  }

  void tell_if_later_elsewhere(JobReader& reader, const std::string& path, Nanos taken) {
    for (ReadSession* away : reader.remembered()) {
      auto later = away->last_seen(path);
      if (!later || away->set(*later).started <= taken) continue;
      lies_elsewhere_ = true;
      teller_.tell(fmt::format(
          "/{}: {} of {} has it too, later than what is taken here; that disk "
          "is not plugged in",
          printable(path), away->name_of(*later), format_local(away->set(*later).started)));
    }
  }

  // Up to which restore point each disk is looked through.
  std::vector<JobReader::Point> newest_meant(JobReader& reader) {
    std::vector<JobReader::Point> points;
    auto moment_text = args_.get("point");
    if (!reader.several() || (moment_text && SetId::parse(*moment_text))) {
      points.push_back(reader.choose(moment_text, context_.clock.now()));
      return points;
    }
    std::optional<Error> none;
    for (ReadSession* session : reader.sessions()) {
      try {
        points.push_back({session, session->choose(moment_text, context_.clock.now())});
      } catch (const Error& error) {
        if (error.kind() != ErrorKind::kNoMatch) throw;
        none = error;
      }
    }
    if (points.empty()) throw none.value();
    return points;
  }

  void restore_missing(JobReader& reader) {
    Job job = context_.jobs().load(job_);
    std::vector<JobReader::Point> points = newest_meant(reader);
    std::vector<std::string> folders;
    for (const auto& typed : paths_) {
      for (auto& path : paths_ever(reader, typed)) folders.push_back(std::move(path));
    }
    for (const JobReader::Point& point : points) point.session->unlock_content();
    forget_environment_passphrase();
    request_.clash = Clash::kSkip;
    request_.shared = shared_folder_of(folders);
    std::uint64_t missing_here = 0;
    for (const JobReader::Point& point : points) {
      missing_here += restore_missing_of(reader, points, point,
                                         {job, folders, point.set, {}, {}, stop_requested});
    }
    if (reader.several() && !context_.quiet) {
      teller_.tell(counted(missing_here, "file") + " missing on this PC");
    }
  }

  std::uint64_t restore_missing_of(JobReader& reader, const std::vector<JobReader::Point>& points,
                                   const JobReader::Point& point, MissingRequest wanted) {
    ReadSession& session = *point.session;
    set_ = points.front().set;
    wanted.moved = [&](const std::string& path, const std::string& now) {
      ++moved_;
      if (moved_ <= kMovesShown || context_.verbose) {
        teller_.tell(printable(path) + " is at " + printable(now) + " now");
      }
      teller_.receipt("moved " + printable(path) + " to " + printable(now));
    };
    wanted.later_elsewhere = [&](const std::string& path, Nanos held) {
      bool behind = false;  // of disks that hold it at the very same time, the first gives it
      for (const JobReader::Point& other : points) {
        if (other.session == point.session) {
          behind = true;
          continue;
        }
        auto theirs = newest_with_file(*other.session, path, other.set);
        if (theirs && (*theirs > held || (*theirs == held && !behind))) return true;
      }
      tell_if_later_elsewhere(reader, path, held);
      return false;
    };
    MissingFiles missing(session, wanted, teller_);
    teller_.end();
    if (!reader.several() && !context_.quiet) {
      teller_.tell(counted(missing.count(), "file") + " missing on this PC");
    }
    for (SetId set : missing.sets()) {
      teller_.from(session, set);
      RestoreSelection selection(session, set);
      missing.fill(selection);
      request_.map = map_for(session, set);
      result_ += restore(session, selection, request_, teller_);
    }
    return missing.count();
  }

  void set_aside(ReadSession& session) {
    bool anchored = false;
    std::string folder = stored_form_at(session, set_, paths_[0], anchored);
    FolderMap map = map_for(session, set_);
    for (const auto& [there, here] : map) {
      if (there == "/" + folder || !is_within(there, "/" + folder)) continue;
      throw Error(ErrorKind::kUsage,
                  "--mirror: " + printable(there) + " lies elsewhere here, in " + printable(here),
                  "name it, or a folder in it");
    }
    auto entry = session.index().find(set_, folder);
    if (!entry || entry->line.entry.type != EntryType::kFolder) {
      throw Error(
          ErrorKind::kNoMatch,
          printable(paths_[0]) + ": not a folder on " + format_local(session.set(set_).started),
          "give the whole path of a folder")
          .about_path(paths_[0]);
    }
    if (!is_named_folder(mapped(map, "/" + folder))) return;
    Job job = context_.jobs().load(job_);
    SetAside aside = set_aside_what_differs(
        context_.machine(), session,
        {job, set_, folder, map, context_.clock.now(), request_.rehearse, stop_requested}, teller_);
    teller_.end();
    for (const auto& path : aside.paths) {
      teller_.receipt("set aside " + printable(path));
      if (context_.verbose || request_.rehearse) {
        teller_.tell((request_.rehearse ? "would set aside " : "set aside ") + printable(path));
      }
    }
    if (!aside.paths.empty()) {
      aside_ = fmt::format("{} {} to {}", counted(aside.paths.size(), "entry", "entries"),
                           request_.rehearse ? "would be moved" : "that differed moved",
                           printable(aside.folder));
      // Whatever differed would be out of the way by now.
      if (request_.rehearse) request_.clash = Clash::kReplace;
    }
  }

  int stream(JobReader& reader) {
    JobReader::Point point;
    if (args_.get("point") == "last-seen") {
      std::vector<PathAt> seen = last_seen_of(reader, paths_[0]);
      point = seen.front().point;
      for (const PathAt& at : seen) {
        if (at.point.set != point.set || at.point.session != point.session) {
          throw Error(ErrorKind::kUsage, "--to - takes one file: " + printable(paths_[0]) +
                                             " means several, of several restore points");
        }
      }
    } else {
      point = reader.choose(args_.get("point"), context_.clock.now());
    }
    ReadSession& session = *point.session;
    set_ = point.set;
    teller_.from(session, set_);
    RestoreSelection selection(session, set_);
    for (const auto& path : paths_) selection.add(path);
    session.unlock_content();
    forget_environment_passphrase();
    restore_to_stream(session, selection,
                      [](ByteView bytes) { write_all(STDOUT_FILENO, bytes, "standard output"); });
    return reader.lacks_later() ? 1 : 0;
  }

  int exit_code() const {
    const UnsetMetadata& unset = result_.unset;
    if (result_.damaged > 0 || lacks_newest_ || names_only_) return 4;
    if (result_.failed > 0) return result_.failed > result_.away ? 3 : 5;
    return lies_elsewhere_ || result_.skipped + unset.attributes + unset.modes > 0 ? 1 : 0;
  }

  int tell_end() {
    int exit = exit_code();
    std::vector<std::string> lines;
    std::string where = !request_.to.empty() ? printable(request_.to) : "their place";
    if (result_.files == 1 && !bundle_) where = printable(teller_.only_path());
    lines.push_back(
        fmt::format("{} {} ({}){} to {}", request_.rehearse ? "would restore" : "restored",
                    counted(result_.files, "file"), format_size(result_.bytes), from_, where));
    if (!aside_.empty()) lines.push_back("  " + aside_);
    if (bundle_ && !bundle_->passphrase) {
      lines.push_back("  not encrypted: whoever has this file can read it (--protect)");
    }
    for (auto& line : counts_in_words(result_, moved_)) lines.push_back(std::move(line));
    std::optional<Room> room;
    if (request_.rehearse) {
      room = room_at(request_.to.empty() ? "/" : request_.to);
      lines.push_back(
          fmt::format("  needs {}, {} free", format_size(result_.bytes), format_size(room->free)));
      if (result_.bytes > room->free) exit = worse_exit(exit, 6);
    }
    if (names_only_) lines.push_back("  not all of this restore point is known; see above");
    if (result_.away > 0) {
      lines.push_back(
          fmt::format("  {} on a disk of this shelf that is not plugged in; see above",
                      result_.away == 1 ? "1 lies" : format_count(result_.away) + " lie"));
    }
    if (lies_elsewhere_) {
      lines.push_back("  something later lies on a disk that is not plugged in; see above");
    }
    if (lacks_newest_) lines.push_back("  the newest restore point cannot be used; see above");
    if (result_.damaged > 0) {
      lines.push_back("which restore points have them whole: kestrum verify " + printable(job_) +
                      " --contents");
    }
    for (const auto& line : lines) teller_.receipt(line);
    if (!context_.json) {
      for (const auto& line : lines) context_.say(line);
      return exit;
    }
    Json head = {{"kestrum", 1},
                 {"job", job_},
                 {"set", set_.to_string()},
                 {"disk", disk_json(disk_)},
                 {"rehearsed", request_.rehearse},
                 {"bytes", result_.bytes},
                 {"free", room ? Json(room->free) : Json(nullptr)}};
    std::string text = head.dump();
    text.pop_back();
    fmt::print("{}", text);
    teller_.print_lists();
    fmt::print("}}\n");
    return exit;
  }

  const Context& context_;
  const Args& args_;
  RestoreTeller teller_;
  RestoreRequest request_;
  std::optional<BundleRequest> bundle_;
  std::vector<std::string> paths_;
  bool nothing_marked_ = false;  // with --choose
  std::size_t typed_ = 0;        // of paths_, the rest are --names-in's
  bool chosen_already_ = false;  // what paths_ match was told
  bool to_stream_ = false;
  FolderMap asked_map_;              // --map
  std::set<std::string> told_maps_;  // the folders of a claim that were told of
  std::string job_, aside_;
  std::string disk_;  // that all of it comes from, where the job has several
  std::string from_;  // in words, where all of it comes from one restore point
  SetId set_;
  std::uint64_t moved_ = 0;
  bool lies_elsewhere_ = false;  // a later one, on a disk that is away
  bool names_only_ = false;      // of what was chosen not all is known
  bool lacks_newest_ = false;    // the newest restore point was meant, and cannot be used
  RestoreResult result_;
};

}  // namespace

int restore_files(const Context& context, const Args& args) {
  return RestoreCommand(context, args).run();
}

}  // namespace kestrum::cli
