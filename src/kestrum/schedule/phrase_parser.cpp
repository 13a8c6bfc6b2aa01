// Understanding a schedule phrase: words are sorted into what they can mean, in whatever order they
// come, and the phrase is accepted only if every word is used and one meaning is left.
#include "kestrum/schedule/phrase_parser.h"

#include <fmt/format.h>
#include <fmt/ranges.h>

#include <algorithm>
#include <map>
#include <set>

#include "kestrum/base/text.h"
#include "kestrum/schedule/words.h"

namespace kestrum {
namespace {

constexpr unsigned kDefaultPause = 10;  // minutes, of "when files change"

struct Words {
  std::vector<int> times;                 // minutes since midnight
  std::vector<unsigned> bare;             // numbers without a word that says what they are
  std::vector<int> ordinals;              // 1 to 31; -1: last
  std::optional<unsigned> past_the_hour;  // ":26"
  std::optional<unsigned> count;          // of `unit`
  std::string unit;                       // minute, hour, day, week, month, year
  std::optional<unsigned> day_number;     // "day 15"
  std::optional<unsigned> month, year;
  std::optional<LocalDay> date;
  unsigned weekdays = 0;
  bool once = false, on_change = false, last_day = false;
  std::optional<unsigned> pause;  // minutes, of "at most every"
};

// Whether `word` is `name`, its plural, or at least three letters of its beginning.
bool abbreviates(std::string_view word, std::string_view name) {
  if (word.ends_with('.')) word.remove_suffix(1);
  if (word == std::string(name) + "s") return true;
  return word.size() >= 3 && name.substr(0, word.size()) == word;
}

std::optional<unsigned> weekday_named(std::string_view word) {
  for (unsigned i = 0; i < 7; ++i) {
    if (abbreviates(word, kWeekdayNames[i])) return i;
  }
  return std::nullopt;
}

std::optional<unsigned> month_named(std::string_view word) {
  for (unsigned i = 0; i < 12; ++i) {
    if (word.size() >= 3 && abbreviates(word, kMonthNames[i]) && !word.ends_with('s')) return i + 1;
  }
  return word == "sept" ? std::optional(9u) : std::nullopt;
}

std::optional<std::string> unit_named(std::string_view word) {
  static const std::map<std::string, std::string, std::less<>> kUnits = {
      {"minute", "minute"}, {"minutes", "minute"},    {"min", "minute"},      {"mins", "minute"},
      {"hour", "hour"},     {"hours", "hour"},        {"h", "hour"},          {"hr", "hour"},
      {"hrs", "hour"},      {"hourly", "hour"},       {"day", "day"},         {"days", "day"},
      {"daily", "day"},     {"night", "day"},         {"nightly", "day"},     {"week", "week"},
      {"weeks", "week"},    {"weekly", "week"},       {"month", "month"},     {"months", "month"},
      {"monthly", "month"}, {"quarterly", "quarter"}, {"quarter", "quarter"}, {"year", "year"},
      {"years", "year"},    {"yearly", "year"},       {"annually", "year"}};
  auto it = kUnits.find(word);
  return it == kUnits.end() ? std::nullopt : std::optional(it->second);
}

std::optional<int> ordinal_named(std::string_view word) {
  for (std::size_t i = 0; i < kOrdinals.size(); ++i) {
    if (word == kOrdinals[i]) return static_cast<int>(i) + 1;
  }
  if (word == "last") return -1;
  for (std::string_view ending : {"st", "nd", "rd", "th"}) {
    if (!word.ends_with(ending)) continue;
    auto n = parse_number(word.substr(0, word.size() - 2));
    if (n && *n >= 1 && *n <= 31) return static_cast<int>(*n);
  }
  return std::nullopt;
}

// "21:00", "9pm", "9:30pm", "21.30", "21h", "noon", "midnight": minutes since midnight.
std::optional<int> time_named(std::string_view word) {
  if (word == "noon" || word == "midday") return 12 * 60;
  if (word == "midnight") return 0;
  std::optional<bool> afternoon;
  for (auto [ending, is_pm] :
       {std::pair{"pm", true}, {"am", false}, {"p.m.", true}, {"a.m.", false}}) {
    if (!word.ends_with(ending)) continue;
    afternoon = is_pm;
    word.remove_suffix(std::string_view(ending).size());
    break;
  }
  bool h = !afternoon && word.ends_with('h');
  if (h) word.remove_suffix(1);
  std::size_t split = word.find_first_of(":.");
  bool plain = split == std::string_view::npos;
  if (plain && !afternoon && !h) return std::nullopt;
  auto hour = parse_number(word.substr(0, split));
  auto minute = plain ? std::optional(0u) : parse_number(word.substr(split + 1));
  if (!hour || !minute || *minute > 59) return std::nullopt;
  if (!plain && word.size() - split != 3) return std::nullopt;
  if (afternoon) {
    if (*hour < 1 || *hour > 12) return std::nullopt;
    *hour = *hour % 12 + (*afternoon ? 12 : 0);
  }
  if (*hour > 23) return std::nullopt;
  return static_cast<int>(*hour * 60 + *minute);
}

std::optional<LocalDay> date_named(std::string_view word) {
  if (word.size() != 10 || word[4] != '-' || word[7] != '-') return std::nullopt;
  auto y = parse_number(word.substr(0, 4)), m = parse_number(word.substr(5, 2)),
       d = parse_number(word.substr(8));
  if (!y || !m || !d) return std::nullopt;
  date::year_month_day ymd{date::year(static_cast<int>(*y)), date::month(*m), date::day(*d)};
  if (!ymd.ok() || *y < 1970) return std::nullopt;
  return LocalDay(ymd);
}

std::vector<std::string> tokens_of(std::string_view text) {
  std::string spaced;
  std::string lower = lower_ascii(text);
  for (std::size_t i = 0; i < lower.size(); ++i) {
    char c = lower[i];
    bool between_digits = c == '-' && i > 0 && i + 1 < lower.size() && lower[i - 1] >= '0' &&
                          lower[i - 1] <= '9' && lower[i + 1] >= '0' && lower[i + 1] <= '9';
    if (c == ',' || c == ';' || c == '&' || c == '+' || c == '/' || c == '\t') {
      spaced += ' ';
    } else if (c == '-' && !between_digits) {
      spaced += " to ";  // mon-fri
    } else {
      spaced += c;
    }
  }
  std::vector<std::string> tokens;
  for (auto& word : split(spaced, ' ')) {
    if (word.empty()) continue;
    // "every 2h" is "every 2 hours".
    std::size_t digits = word.find_first_not_of("0123456789");
    if (!tokens.empty() && tokens.back() == "every" && digits != 0 && digits != std::string::npos) {
      std::string unit = word.substr(digits) == "m" ? "min" : word.substr(digits);
      if (unit_named(unit)) {
        tokens.push_back(word.substr(0, digits));
        tokens.push_back(unit);
        continue;
      }
    }
    // "9 pm" is one time.
    if ((word == "am" || word == "pm" || word == "a.m." || word == "p.m.") && !tokens.empty()) {
      tokens.back() += word;
    } else {
      tokens.push_back(std::move(word));
    }
  }
  return tokens;
}

const std::set<std::string, std::less<>>& fillers() {
  static const std::set<std::string, std::less<>> kFillers = {
      "at",      "on",   "the",  "of",      "in",      "a",   "an",     "and", "every", "each",
      "o'clock", "then", "past", "evening", "morning", "run", "week's", "per", "time"};
  return kFillers;
}

// Takes what belongs to "when files change, at most every 10 minutes".
bool take_on_change(std::vector<std::string>& tokens, Words& words) {
  auto is_change = [](const std::string& t) {
    return t == "change" || t == "changes" || t == "changed" || t == "changing";
  };
  if (std::none_of(tokens.begin(), tokens.end(), is_change)) return true;
  words.on_change = true;
  std::vector<std::string> rest;
  for (std::size_t i = 0; i < tokens.size(); ++i) {
    const std::string& t = tokens[i];
    if (t == "most" || t == "max" || t == "maximum") {
      // at most every N minutes
      std::size_t j = i + 1;
      while (j < tokens.size() && (tokens[j] == "every" || tokens[j] == "each" ||
                                   tokens[j] == "once" || tokens[j] == "an" || tokens[j] == "a")) {
        ++j;
      }
      unsigned count = 1;
      if (j < tokens.size()) {
        if (auto n = parse_number(tokens[j])) count = *n, ++j;
      }
      auto unit = j < tokens.size() ? unit_named(tokens[j]) : std::nullopt;
      if (!unit || count == 0 || count > 10'000) return false;
      unsigned minutes = *unit == "minute" ? 1 : *unit == "hour" ? 60 : *unit == "day" ? 1440 : 0;
      if (minutes == 0) return false;
      words.pause = count * minutes;
      i = j;
    } else if (!is_change(t) && t != "when" && t != "whenever" && t != "files" && t != "file" &&
               t != "something" && t != "anything" && t != "on") {
      rest.push_back(t);
    }
  }
  tokens = rest;
  return true;
}

// Sorts the words by what they can mean; the first that means nothing goes to `unknown`.
std::optional<Words> sort_words(std::vector<std::string> tokens, std::string* unknown) {
  Words words;
  if (!take_on_change(tokens, words)) return std::nullopt;
  std::optional<unsigned> range_from;
  for (std::size_t i = 0; i < tokens.size(); ++i) {
    const std::string& word = tokens[i];
    const std::string* next = i + 1 < tokens.size() ? &tokens[i + 1] : nullptr;
    const std::string* previous = i > 0 ? &tokens[i - 1] : nullptr;
    if (word == "to" || word == "till" || word == "until" || word == "through") {
      auto from = previous != nullptr ? weekday_named(*previous) : std::nullopt;
      auto to = next != nullptr ? weekday_named(*next) : std::nullopt;
      if (!from || !to) return std::nullopt;
      for (unsigned day = *from; day != *to; day = (day + 1) % 7) words.weekdays |= 1u << day;
      continue;
    }
    if (word == "once") {
      words.once = true;
    } else if (word == "weekday" || word == "weekdays" || word == "workday" || word == "workdays") {
      words.weekdays |= kWorkingDays;
    } else if (word == "weekend" || word == "weekends") {
      words.weekdays |= kWeekend;
    } else if (word == "other" || word == "second" || word == "third") {
      // "every other friday"; otherwise an ordinal
      if (word == "other") {
        words.count = 2;
      } else {
        words.ordinals.push_back(*ordinal_named(word));
      }
    } else if (auto time = time_named(word)) {
      words.times.push_back(*time);
    } else if (word.starts_with(':') && word.size() == 3 && parse_number(word.substr(1)) &&
               *parse_number(word.substr(1)) < 60) {
      words.past_the_hour = *parse_number(word.substr(1));
    } else if (auto date = date_named(word)) {
      words.date = *date;
    } else if (auto day = weekday_named(word)) {
      words.weekdays |= 1u << *day;
    } else if (auto month = month_named(word)) {
      words.month = *month;
    } else if (auto ordinal = ordinal_named(word)) {
      if (*ordinal < 0 && next != nullptr && *next == "day") {
        words.last_day = true;
        ++i;
      } else {
        words.ordinals.push_back(*ordinal);
      }
    } else if (auto unit = unit_named(word)) {
      auto day_number = *unit == "day" && next != nullptr ? parse_number(*next) : std::nullopt;
      if (word == "day" && day_number && *day_number >= 1 && *day_number <= 31) {
        words.day_number = *day_number;
        ++i;
      } else if (*unit == "quarter") {
        words.unit = "month";
        words.count = 3;
      } else if (words.unit.empty() || words.unit == *unit) {
        words.unit = *unit;
      } else if (words.unit == "month" && *unit == "day") {
        // "every month on the 15th day"
      } else if (*unit == "month" && words.unit == "day") {
        words.unit = "month";
      } else {
        return std::nullopt;
      }
    } else if (auto n = parse_number(word)) {
      if (next != nullptr && unit_named(*next)) {
        words.count = *n;
      } else if (word.size() == 4 && *n >= 1970) {
        words.year = *n;
      } else if (previous != nullptr && *previous == "at" && *n < 24) {
        words.times.push_back(static_cast<int>(*n) * 60);
      } else {
        words.bare.push_back(*n);
      }
    } else if (!fillers().contains(word)) {
      if (unknown != nullptr) *unknown = word;
      return std::nullopt;
    }
  }
  std::sort(words.times.begin(), words.times.end());
  words.times.erase(std::unique(words.times.begin(), words.times.end()), words.times.end());
  return words;
}

std::optional<Phrase> interval(Words& w) {
  unsigned minutes = w.count.value_or(1) * (w.unit == "hour" ? 60 : 1);
  bool nothing_else = w.weekdays == 0 && w.times.empty() && w.ordinals.empty() && w.bare.empty();
  if (!nothing_else || minutes == 0 || minutes > 1440) return std::nullopt;
  if (w.past_the_hour && w.unit == "minute") return std::nullopt;
  Phrase phrase{Phrase::Pattern::kInterval};
  phrase.every = minutes;
  phrase.offset = w.past_the_hour.value_or(0);
  return phrase;
}

// A number that is left over: the hour of a daily or weekly phrase, the day of any other.
bool place_bare(Words& w, bool is_hour) {
  for (unsigned n : w.bare) {
    if (is_hour) {
      if (n > 23 || !w.times.empty()) return false;
      w.times.push_back(static_cast<int>(n) * 60);
    } else {
      if (w.day_number || n < 1 || n > 31) return false;
      w.day_number = n;
    }
  }
  w.bare.clear();
  return true;
}

std::optional<Phrase> calendar_phrase(Words& w) {
  using Pattern = Phrase::Pattern;
  Phrase phrase;
  phrase.every = w.count.value_or(1);
  unsigned most = w.unit == "month" ? 12 : w.unit == "day" ? 366 : 52;
  if (phrase.every == 0 || phrase.every > most) return std::nullopt;
  bool yearly = w.month.has_value();
  bool monthly = !yearly && (w.unit == "month" || w.last_day || w.day_number ||
                             (!w.ordinals.empty() && w.weekdays != 0));
  if (!place_bare(w, !yearly && !monthly)) return std::nullopt;
  if (w.date || (yearly && w.year)) {
    LocalDay date;
    if (w.date) {
      if (yearly) return std::nullopt;
      date = *w.date;
    } else {
      if (!w.day_number && w.ordinals.size() == 1) w.day_number = w.ordinals[0], w.ordinals.clear();
      if (!w.day_number) return std::nullopt;
      date::year_month_day ymd{date::year(static_cast<int>(*w.year)), date::month(*w.month),
                               date::day(*w.day_number)};
      if (!ymd.ok()) return std::nullopt;
      date = LocalDay(ymd);
      w.day_number.reset();
    }
    if (w.day_number || !w.unit.empty() || !w.ordinals.empty()) return std::nullopt;
    phrase.pattern = Pattern::kOnce;
    phrase.date = date;
  } else if (w.once || w.year) {
    return std::nullopt;
  } else if (yearly) {
    if (!w.day_number && w.ordinals.size() == 1 && w.ordinals[0] > 0) {
      w.day_number = static_cast<unsigned>(w.ordinals[0]);
      w.ordinals.clear();
    }
    bool alone = w.weekdays == 0 && w.ordinals.empty() && (w.unit.empty() || w.unit == "year");
    constexpr unsigned kLeapYear = 2000;
    if (!alone || !w.day_number || phrase.every != 1) return std::nullopt;
    date::year_month_day ymd{date::year(kLeapYear), date::month(*w.month),
                             date::day(*w.day_number)};
    if (!ymd.ok()) return std::nullopt;
    phrase.pattern = Pattern::kYearly;
    phrase.month = *w.month;
    phrase.day = *w.day_number;
  } else if (monthly) {
    if (!w.unit.empty() && w.unit != "month") return std::nullopt;
    if (w.unit.empty() && w.count) return std::nullopt;  // so many of what?
    if (w.weekdays != 0) {
      bool one = (w.weekdays & (w.weekdays - 1)) == 0;
      if (!one || w.ordinals.size() != 1 || w.ordinals[0] > 5 || w.day_number || w.last_day) {
        return std::nullopt;
      }
      phrase.pattern = Pattern::kMonthWeekday;
      phrase.nth = w.ordinals[0];
      while ((w.weekdays >> phrase.weekday) != 1) ++phrase.weekday;
    } else {
      if (!w.last_day && !w.day_number && w.ordinals.size() == 1) {
        if (w.ordinals[0] < 0) {
          w.last_day = true;
        } else {
          w.day_number = static_cast<unsigned>(w.ordinals[0]);
        }
        w.ordinals.clear();
      }
      if (w.last_day == w.day_number.has_value() || !w.ordinals.empty()) return std::nullopt;
      phrase.pattern = Pattern::kMonthDay;
      phrase.day = w.day_number.value_or(0);
    }
  } else if (!w.ordinals.empty()) {
    return std::nullopt;
  } else if (w.weekdays != 0) {
    if (!w.unit.empty() && w.unit != "week" && w.unit != "day") return std::nullopt;
    if (w.unit == "day" && w.count) return std::nullopt;
    if (w.weekdays == kAllWeek && phrase.every == 1) {
      phrase.pattern = Pattern::kDays;
    } else {
      phrase.pattern = Pattern::kWeekdays;
      phrase.weekdays = w.weekdays;
    }
  } else if (w.unit == "day") {
    phrase.pattern = Pattern::kDays;
  } else {
    return std::nullopt;
  }
  if (w.times.empty() || w.past_the_hour || w.pause || w.on_change) return std::nullopt;
  phrase.times = w.times;
  return phrase;
}

std::optional<Phrase> understand(const std::vector<std::string>& tokens, std::string* unknown) {
  auto words = sort_words(tokens, unknown);
  if (!words || tokens.empty()) return std::nullopt;
  if (words->on_change) {
    bool alone = words->times.empty() && words->bare.empty() && words->weekdays == 0 &&
                 words->unit.empty() && !words->count && words->ordinals.empty() && !words->once &&
                 !words->date && !words->month;
    if (!alone) return std::nullopt;
    Phrase phrase{Phrase::Pattern::kWhenFilesChange};
    phrase.every = words->pause.value_or(kDefaultPause);
    return phrase;
  }
  if (words->unit == "hour" || words->unit == "minute") return interval(*words);
  return calendar_phrase(*words);
}

}  // namespace

std::optional<Phrase> parse_phrase(std::string_view text) {
  return understand(tokens_of(text), nullptr);
}

std::string nearest_phrase(std::string_view text) {
  static const std::vector<std::string> kVocabulary = {
      "every",     "daily",     "day",     "weekday",  "weekly",   "week",    "monday",   "tuesday",
      "wednesday", "thursday",  "friday",  "saturday", "sunday",   "monthly", "month",    "last",
      "first",     "second",    "third",   "fourth",   "yearly",   "hour",    "hours",    "hourly",
      "minutes",   "once",      "january", "february", "march",    "april",   "june",     "july",
      "august",    "september", "october", "november", "december", "noon",    "midnight", "when",
      "files",     "change",    "most"};
  std::vector<std::string> tokens = tokens_of(text);
  auto with_defaults = [&]() -> std::optional<Phrase> {
    for (const char* more : {"", " at 21:00", " every day", " every day at 21:00", " on day 1",
                             " on day 1 at 21:00", " on mon", " on mon at 21:00"}) {
      if (auto phrase = parse_phrase(fmt::format("{}", fmt::join(tokens, " ")) + more))
        return phrase;
    }
    return std::nullopt;
  };
  // Words that are not understood become the nearest that are, or go.
  for (std::size_t round = 0; round < 8; ++round) {
    if (auto phrase = with_defaults()) return phrase->text();
    std::string unknown;
    understand(tokens, &unknown);
    auto it = unknown.empty() ? tokens.end() : std::find(tokens.begin(), tokens.end(), unknown);
    if (it == tokens.end()) break;
    auto near = nearest_word(unknown, kVocabulary);
    if (near && *near != unknown) {
      *it = *near;
    } else {
      tokens.erase(it);
    }
  }
  // What can be said for certain: an hour that was given stays.
  for (const auto& token : tokens) {
    auto time = time_named(token);
    if (time) return fmt::format("every day at {:02}:{:02}", *time / 60, *time % 60);
  }
  return "every day at 21:00";
}

}  // namespace kestrum
