#include "kestrum/job/job_setters.h"

#include <fmt/format.h>

#include <algorithm>
#include <charconv>

#include "kestrum/base/error.h"
#include "kestrum/base/file.h"
#include "kestrum/base/text.h"
#include "kestrum/base/units.h"
#include "kestrum/place/address.h"
#include "kestrum/schedule/phrase_parser.h"
#include "kestrum/select/litter.h"

namespace kestrum {
namespace {

constexpr std::uint64_t kSmallestPart = 100'000;
constexpr std::uint64_t kSlowestRate = 10'000;
constexpr std::uint64_t kLeastStretched = 1'000'000;
constexpr std::uint64_t kLargestPart = 4'000'000'000;  // no file of ours reaches 4 GiB

using Problem = std::optional<std::string>;

std::string in_quotes(const std::string& text) {
  return "\"" + printable(text) + "\"";
}

Problem one_of(const std::string& value, std::initializer_list<std::string_view> words) {
  if (std::find(words.begin(), words.end(), value) != words.end()) return std::nullopt;
  std::string text;
  for (std::string_view word : words)
    text += (text.empty() ? "" : ", ") + in_quotes(std::string(word));
  return in_quotes(value) + " is not one of " + text;
}

Problem set_size(const std::string& text, std::optional<std::uint64_t>& size) {
  size.reset();
  if (text == "off") return std::nullopt;
  size = parse_size(text);
  if (!size) return in_quotes(text) + " is not a size such as \"650 MB\", nor \"off\"";
  return std::nullopt;
}

// "5" may be meant as bytes, a share or anything: where a slip costs much, a unit is wanted.
Problem no_unit(const std::string& text) {
  bool none = !text.empty() && text.find_first_not_of("0123456789. ") == std::string::npos;
  return none ? Problem(in_quotes(text) + " has no unit, such as \"" + text + " GB\"")
              : std::nullopt;
}

Problem set_duration(const std::string& text, std::optional<Nanos>& duration, bool may_be_off) {
  duration.reset();
  if (may_be_off && text == "off") return std::nullopt;
  duration = parse_duration(text);
  if (!duration) {
    return in_quotes(text) + " is not a length of time such as \"14 days\"" +
           (may_be_off ? ", nor \"off\"" : "");
  }
  return std::nullopt;
}

Problem set_limit(const std::string& text, Nanos& limit) {
  std::optional<Nanos> given;
  if (Problem problem = set_duration(text, given, false)) return problem;
  limit = *given;
  return std::nullopt;
}

Problem add_phrase(const std::string& said, std::vector<Phrase>& phrases) {
  auto phrase = parse_phrase(said);
  if (!phrase) {
    return in_quotes(said) + " is not clear; nearest to it is " + in_quotes(nearest_phrase(said));
  }
  phrases.push_back(*phrase);
  return std::nullopt;
}

// Of a check: when it comes by itself; "" for by hand.
Problem set_check(const std::string& said, std::vector<Phrase>& phrases) {
  if (said.empty()) return std::nullopt;
  if (Problem problem = add_phrase(said, phrases)) return problem;
  bool timed = phrases.back().timed();
  return timed ? std::nullopt : Problem(in_quotes(said) + " is no time for a check");
}

// "off" is 0.
Problem set_nag(const std::string& text, Nanos& nag) {
  std::optional<Nanos> given;
  if (Problem problem = set_duration(text, given, true)) return problem;
  nag = given.value_or(0);
  return std::nullopt;
}

Problem percentage(const std::string& text) {
  unsigned value = 0;
  auto [end, ec] = std::from_chars(text.data(), text.data() + text.size(), value);
  bool ok =
      ec == std::errc() && std::string_view(end, text.data() + text.size()) == "%" && value <= 100;
  return ok ? std::nullopt : Problem(in_quotes(text) + " is not a share such as \"40%\"");
}

// Names are bytes; a job file is UTF-8, and has those that are not as \xe9.
std::vector<std::string> as_bytes_of_names(const std::vector<std::string>& texts) {
  std::vector<std::string> names;
  names.reserve(texts.size());
  for (const std::string& text : texts) names.push_back(without_escaped_bytes(text));
  return names;
}

Problem absolute_folders(const std::vector<std::string>& given, std::vector<std::string>& folders,
                         const char* what) {
  if (given.empty()) return std::string("empty: name at least one ") + what;
  for (const auto& folder : as_bytes_of_names(given)) {
    if (folder.empty() || folder[0] != '/') return in_quotes(folder) + " is not an absolute path";
    folders.push_back(absolute_path(folder));
  }
  return std::nullopt;
}

Problem set_places(const std::vector<std::string>& said, std::vector<std::string>& places) {
  for (const std::string& place : said) {
    if (place.starts_with("//")) {
      return in_quotes(place) + " is a share, not a folder: mount it, and name that folder";
    }
  }
  if (said.empty()) return "empty: name at least one place";
  for (const std::string& place : as_bytes_of_names(said)) {
    if (!is_remote(place)) {
      if (Problem problem = absolute_folders({place}, places, "place")) return problem;
      continue;
    }
    try {
      places.push_back(parse_address(place).text());
    } catch (const Error& error) {
      return error.message() + (error.hint().empty() ? "" : "; " + error.hint());
    }
  }
  return std::nullopt;
}

}  // namespace

const std::map<std::string, JobSetter>& job_setters() {
  static auto text = [](const KeyValue& v) -> const std::string& {
    return std::get<std::string>(v);
  };
  static auto list = [](const KeyValue& v) -> const std::vector<std::string>& {
    return std::get<std::vector<std::string>>(v);
  };
  static const std::map<std::string, JobSetter> kSetters = {
      {"format",
       [](Job&, const KeyValue& v) -> Problem {
         std::int64_t format = std::get<std::int64_t>(v);
         if (format == 1) return std::nullopt;
         return fmt::format("{} is not known here; this version reads format 1", format);
       }},
      {"title",
       [](Job& job, const KeyValue& v) -> Problem {
         job.title = text(v);
         return std::nullopt;
       }},
      {"source.folders",
       [](Job& job, const KeyValue& v) {
         return absolute_folders(list(v), job.folders, "folder");
       }},
      {"source.leave_out",
       [](Job& job, const KeyValue& v) -> Problem {
         job.rules.leave_out = as_bytes_of_names(list(v));
         PatternSet check(job.rules.leave_out);
         return std::nullopt;
       }},
      {"source.leave_out_litter",
       [](Job& job, const KeyValue& v) -> Problem {
         job.rules.leave_out_litter = std::get<bool>(v);
         return std::nullopt;
       }},
      {"source.only",
       [](Job& job, const KeyValue& v) -> Problem {
         job.rules.only = as_bytes_of_names(list(v));
         SelectionRules check;
         check.only = job.rules.only;
         Selection selection(check, {});
         return std::nullopt;
       }},
      {"source.bigger_than",
       [](Job& job, const KeyValue& v) { return set_size(text(v), job.rules.bigger_than); }},
      {"source.smaller_than",
       [](Job& job, const KeyValue& v) { return set_size(text(v), job.rules.smaller_than); }},
      {"source.changed_within",
       [](Job& job, const KeyValue& v) {
         return set_duration(text(v), job.rules.changed_within, true);
       }},
      {"source.other_filesystems",
       [](Job& job, const KeyValue& v) -> Problem {
         job.rules.other_filesystems = std::get<bool>(v);
         return std::nullopt;
       }},
      {"source.stretches_above",
       [](Job& job, const KeyValue& v) -> Problem {
         if (Problem problem = no_unit(text(v))) return problem;
         std::optional<std::uint64_t> size;
         if (Problem problem = set_size(text(v), size)) return problem;
         if (size && *size < kLeastStretched) {
           return in_quotes(text(v)) + ": files are stored in stretches from 1 MB on";
         }
         job.stretches_above = size.value_or(0);
         return std::nullopt;
       }},
      {"source.snapshot",
       [](Job& job, const KeyValue& v) {
         job.snapshot = text(v) == "off"       ? SnapshotUse::kOff
                        : text(v) == "require" ? SnapshotUse::kRequire
                                               : SnapshotUse::kAuto;
         return one_of(text(v), {"auto", "off", "require"});
       }},
      {"destination.places",
       [](Job& job, const KeyValue& v) { return set_places(list(v), job.places); }},
      {"destination.part_size",
       [](Job& job, const KeyValue& v) -> Problem {
         if (Problem problem = no_unit(text(v))) return problem;
         auto size = parse_size(text(v));
         if (!size) return in_quotes(text(v)) + " is not a size such as \"1 GB\"";
         if (*size < kSmallestPart || *size > kLargestPart) {
           return in_quotes(text(v)) + ": parts are between 100 kB and 4 GB";
         }
         job.part_size = *size;
         return std::nullopt;
       }},
      {"destination.when_full",
       [](Job& job, const KeyValue& v) {
         job.when_full = text(v) == "stop"           ? WhenFull::kStop
                         : text(v) == "ask"          ? WhenFull::kAsk
                         : text(v) == "prune deeper" ? WhenFull::kPruneDeeper
                                                     : WhenFull::kPrune;
         return one_of(text(v), {"prune", "stop", "ask", "prune deeper"});
       }},
      {"chain.kind",
       [](Job& job, const KeyValue& v) -> Problem {
         auto kind = parse_kind(text(v));
         if (!kind) return one_of(text(v), {"incremental", "differential", "full"});
         job.follows_full = *kind;
         return std::nullopt;
       }},
      {"chain.new_full",
       [](Job& job, const KeyValue& v) -> Problem {
         auto rule = NewFullRule::parse(text(v));
         if (!rule) {
           return in_quotes(text(v)) +
                  " is not like \"after 13 sets\", \"every sunday\", \"every 4 weeks\", "
                  "\"first run of the month\" or \"never\"";
         }
         job.new_full = *rule;
         return std::nullopt;
       }},
      {"schedule.when",
       [](Job& job, const KeyValue& v) -> Problem {
         for (const auto& said : list(v)) {
           if (lower_ascii(trimmed(said)) == "by hand" && list(v).size() == 1) continue;
           if (Problem problem = add_phrase(said, job.when)) return problem;
         }
         return std::nullopt;
       }},
      {"schedule.if_missed",
       [](Job& job, const KeyValue& v) {
         job.skip_missed = text(v) == "skip";
         return one_of(text(v), {"next chance", "skip"});
       }},
      {"schedule.spread",
       [](Job& job, const KeyValue& v) -> Problem {
         std::optional<Nanos> spread;
         if (Problem problem = set_duration(text(v), spread, true)) return problem;
         job.spread = spread.value_or(0);
         if (job.spread <= kDay) return std::nullopt;
         return in_quotes(text(v)) + ": at most a day";
       }},
      {"schedule.on_battery",
       [](Job& job, const KeyValue& v) {
         job.wait_on_battery = text(v) == "wait";
         return one_of(text(v), {"run", "wait"});
       }},
      {"keep.for",
       [](Job& job, const KeyValue& v) -> Problem {
         std::optional<Nanos> age;
         if (Problem problem = set_duration(text(v), age, false)) return problem;
         job.keep.keep_for = *age;
         return std::nullopt;
       }},
      {"keep.chains",
       [](Job& job, const KeyValue& v) -> Problem {
         std::int64_t chains = std::get<std::int64_t>(v);
         if (chains < 1 || chains > 1000) return "must be from 1 to 1000";
         job.keep.chains = static_cast<unsigned>(chains);
         return std::nullopt;
       }},
      {"keep.thin",
       [](Job& job, const KeyValue& v) -> Problem {
         for (const auto& phrase : list(v)) {
           auto rule = ThinRule::parse(phrase);
           if (!rule) {
             return in_quotes(phrase) +
                    " is not like \"one a week for 8 weeks\" (day, week, month, year)";
           }
           job.keep.thin.push_back(*rule);
         }
         return std::nullopt;
       }},
      {"keep.at_most",
       [](Job& job, const KeyValue& v) {
         Problem problem = no_unit(text(v));
         return problem ? problem : set_size(text(v), job.at_most);
       }},
      {"keep.leave_free",
       [](Job& job, const KeyValue& v) -> Problem {
         if (!percentage(text(v))) {
           job.leave_free_percent = static_cast<unsigned>(std::stoul(text(v)));
           return std::nullopt;
         }
         job.leave_free_percent = 0;
         if (text(v) == "off") return std::nullopt;
         if (Problem problem = no_unit(text(v))) return *problem + ", or a share: \"5%\"";
         job.leave_free = parse_size(text(v));
         if (job.leave_free) return std::nullopt;
         return in_quotes(text(v)) + " is neither a share such as \"5%\" nor a size, nor \"off\"";
       }},
      {"keep.hold",
       [](Job& job, const KeyValue& v) -> Problem {
         job.keep.hold = std::string(trimmed(text(v)));
         return std::nullopt;
       }},
      {"compression.level",
       [](Job& job, const KeyValue& v) -> Problem {
         constexpr std::array<std::string_view, 4> kWords = {"fast", "normal", "small", "off"};
         auto it = std::find(kWords.begin(), kWords.end(), text(v));
         if (it == kWords.end()) return one_of(text(v), {"fast", "normal", "small", "off"});
         job.level = static_cast<CompressionLevel>(it - kWords.begin());
         return std::nullopt;
       }},
      {"protection.mode",
       [](Job& job, const KeyValue& v) -> Problem {
         job.encrypted = text(v) == "passphrase";
         return one_of(text(v), {"passphrase", "none"});
       }},
      {"protection.also_for",
       [](Job& job, const KeyValue& v) -> Problem {
         for (const auto& word : list(v)) {
           auto recipient = Recipient::parse(word);
           if (!recipient) return in_quotes(word) + " is not an age recipient (age1...)";
           job.also_for.push_back(*recipient);
         }
         return std::nullopt;
       }},
      {"protection.passphrase_from",
       [](Job& job, const KeyValue& v) -> Problem {
         job.passphrase_from = text(v);
         return std::nullopt;
       }},
      {"after_run.verify",
       [](Job& job, const KeyValue& v) -> Problem {
         job.verify = text(v) == "off"     ? ReadBack::kOff
                      : text(v) == "sizes" ? ReadBack::kSizes
                      : text(v) == "parts" ? ReadBack::kParts
                                           : ReadBack::kContents;
         return one_of(text(v), {"parts", "sizes", "contents", "off"});
       }},
      {"after_run.then",
       [](Job& job, const KeyValue& v) {
         job.power_off = text(v) == "power off";
         return one_of(text(v), {"nothing", "power off"});
       }},
      {"before_run.command",
       [](Job& job, const KeyValue& v) -> Problem {
         job.before_run.text = text(v);
         return std::nullopt;
       }},
      {"before_run.time_limit",
       [](Job& job, const KeyValue& v) { return set_limit(text(v), job.before_run.limit); }},
      {"after_run.command",
       [](Job& job, const KeyValue& v) -> Problem {
         job.after_run.text = text(v);
         return std::nullopt;
       }},
      {"after_run.time_limit",
       [](Job& job, const KeyValue& v) { return set_limit(text(v), job.after_run.limit); }},
      {"checks.verify_when",
       [](Job& job, const KeyValue& v) { return set_check(text(v), job.checks.verify_when); }},
      {"checks.each_time",
       [](Job& job, const KeyValue& v) -> Problem {
         if (Problem problem = percentage(text(v))) return problem;
         job.checks.each_time = static_cast<unsigned>(std::stoul(text(v)));
         return job.checks.each_time == 0 ? Problem("must be at least 1%") : std::nullopt;
       }},
      {"checks.drill_when",
       [](Job& job, const KeyValue& v) { return set_check(text(v), job.checks.drill_when); }},
      {"checks.nag_verify",
       [](Job& job, const KeyValue& v) { return set_nag(text(v), job.checks.nag_verify); }},
      {"checks.nag_drill",
       [](Job& job, const KeyValue& v) { return set_nag(text(v), job.checks.nag_drill); }},
      {"checks.nag_try",
       [](Job& job, const KeyValue& v) { return set_nag(text(v), job.checks.nag_try); }},
      {"rotation.expect",
       [](Job& job, const KeyValue& v) -> Problem {
         std::string said = lower_ascii(trimmed(text(v)));
         if (said.empty()) return std::nullopt;
         if (said.starts_with("every ")) said.erase(0, 6);
         if (said == "day" || said == "week" || said == "month") said = "1 " + said;
         auto length = parse_duration(said);
         if (!length) return in_quotes(text(v)) + " is no time such as \"every 7 days\"";
         job.rotation = *length;
         return std::nullopt;
       }},
      {"copies.to",
       [](Job& job, const KeyValue& v) {
         return list(v).empty() ? std::nullopt : set_places(list(v), job.copies.to);
       }},
      {"copies.when",
       [](Job& job, const KeyValue& v) -> Problem {
         for (const auto& said : list(v)) {
           if (Problem problem = set_check(said, job.copies.when)) return problem;
         }
         return std::nullopt;
       }},
      {"effort.priority",
       [](Job& job, const KeyValue& v) {
         job.low_priority = text(v) == "low";
         return one_of(text(v), {"low", "normal"});
       }},
      {"effort.limit",
       [](Job& job, const KeyValue& v) -> Problem {
         const std::string& rate = text(v);
         if (rate == "off") return std::nullopt;
         if (rate.ends_with("/s")) job.rate_limit = parse_size(rate.substr(0, rate.size() - 2));
         if (job.rate_limit && *job.rate_limit >= kSlowestRate) return std::nullopt;
         return in_quotes(rate) + (job.rate_limit
                                       ? " is less than 10 kB/s"
                                       : " is not a rate such as \"20 MB/s\", nor \"off\"");
       }},
      {"report.detail",
       [](Job& job, const KeyValue& v) {
         job.log_detail = text(v) == "short"        ? Job::LogDetail::kShort
                          : text(v) == "every file" ? Job::LogDetail::kEveryFile
                                                    : Job::LogDetail::kNormal;
         return one_of(text(v), {"short", "normal", "every file"});
       }},
      {"report.keep",
       [](Job& job, const KeyValue& v) -> Problem {
         if (std::get<std::int64_t>(v) < 1) return "must be at least 1";
         job.keep_records = static_cast<std::size_t>(std::get<std::int64_t>(v));
         return std::nullopt;
       }},
      {"report.mail_to",
       [](Job& job, const KeyValue& v) -> Problem {
         for (const auto& address : list(v)) {
           if (!is_mail_address(address)) return in_quotes(address) + " is no mail address";
         }
         job.mail_to = list(v);
         return std::nullopt;
       }},
      {"report.mail_when",
       [](Job& job, const KeyValue& v) {
         job.mail_when = text(v);
         return one_of(text(v), {"always", "heed", "trouble", "never"});
       }},
      {"report.suspect_above",
       [](Job& job, const KeyValue& v) {
         Problem problem = percentage(text(v));
         if (!problem) job.suspect_percent = static_cast<unsigned>(std::stoul(text(v)));
         return problem;
       }},
  };
  return kSetters;
}

}  // namespace kestrum
