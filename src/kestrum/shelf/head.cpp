#include "kestrum/shelf/head.h"

#include <fmt/format.h>

#include <algorithm>

#include "kestrum/base/error.h"
#include "kestrum/base/units.h"
#include "kestrum/shelf/document.h"
#include "kestrum/shelf/signed_file.h"

namespace kestrum {
namespace {

constexpr const char* kHeadFormat = "kestrum-head";
constexpr std::uint64_t kHeadLimit = 1 << 20;
constexpr std::size_t kHeadsKept = 2;
constexpr std::size_t kDigits = 9;  // of a head's number in its name

std::string head_path(const std::string& name) {
  return std::string(kHeadsFolder) + "/" + name;
}

bool is_number(const std::string& text) {
  return std::all_of(text.begin(), text.end(), [](char c) { return c >= '0' && c <= '9'; });
}

// Names of the heads among what lies there, the highest number first.
std::vector<std::string> head_names(const std::vector<PlaceEntry>& entries) {
  std::vector<std::string> names;
  for (const PlaceEntry& entry : entries) {
    bool head = entry.name.size() == kDigits + 5 && entry.name.ends_with(".json") &&
                is_number(entry.name.substr(0, kDigits));
    if (head && !entry.is_folder) names.push_back(entry.name);
  }
  std::reverse(names.begin(), names.end());
  return names;
}

}  // namespace

Json others_json(const std::vector<OtherHead>& others) {
  Json list = Json::array();
  for (const OtherHead& other : others) {
    list.push_back(
        {{"shelf", other.shelf}, {"number", other.number}, {"seal", to_hex(other.seal)}});
  }
  return list;
}

std::vector<OtherHead> parse_others(const Json& list, const std::string& what) {
  if (!list.is_array()) throw Error(ErrorKind::kDamage, what + ": \"others\" is not a list");
  std::vector<OtherHead> others;
  for (const Json& other : list) {
    others.push_back({json_string(other, "shelf", what), json_uint(other, "number", what),
                      document_digest(other, "seal", what)});
  }
  return others;
}

std::string Head::to_json() const {
  Json json = new_document(kHeadFormat);
  json["shelf"] = shelf;
  json["number"] = number;
  json["set"] = set.to_string();
  json["seal"] = to_hex(seal);
  json["when"] = format_rfc3339(when);
  json["others"] = others_json(others);
  return json.dump(2) + "\n";
}

Head Head::parse(std::string_view text, const std::string& what) {
  Json json = parse_document(text, kHeadFormat, what);
  Head head;
  head.shelf = json_string(json, "shelf", what);
  head.number = json_uint(json, "number", what);
  head.set = document_set(json, "set", what);
  head.seal = document_digest(json, "seal", what);
  head.when = document_time(json, "when", what);
  head.others = parse_others(json_member(json, "others", what), what);
  return head;
}

std::vector<std::string> head_files(Place& place) {
  std::vector<std::string> names;
  try {
    names = head_names(place.list(kHeadsFolder));
  } catch (const Error& error) {
    if (error.kind() == ErrorKind::kPlace) throw;
  }
  for (std::string& name : names) name = head_path(name);
  return names;
}

std::optional<Head> newest_head_of(const std::vector<std::string>& files, Place& place,
                                   const std::string& shelf, const std::vector<VerifyKey>& keys) {
  for (const std::string& path : files) {
    try {
      std::string text = read_small(place, path, kHeadLimit);
      bool vouched =
          keys.empty() ||
          signature_valid(as_bytes(text), read_small(place, path + ".minisig", kHeadLimit), keys);
      if (!vouched) continue;
      Head head = Head::parse(text, path);
      if (head.shelf == shelf) return head;
    } catch (const Error& error) {
      if (error.kind() == ErrorKind::kPlace) throw;
    }
  }
  return std::nullopt;
}

std::optional<Head> newest_head(Place& place, const std::string& shelf,
                                const std::vector<VerifyKey>& keys) {
  return newest_head_of(head_files(place), place, shelf, keys);
}

HeadWriter::HeadWriter(Place& place, const Head& head, const SigningKey& key)
    : place_(place), name_(fmt::format("{:09}.json", head.number)) {
  try {
    before_ = place_.list(kHeadsFolder);
  } catch (const Error&) {
    // It can be written all the same; put() asks again.
  }
  try {
    if (!before_ || before_->empty()) place_.make_folder(kHeadsFolder);
    file_.emplace(place_, head_path(name_), head.to_json(), key,
                  fmt::format("head {} of shelf {}", head.number, head.shelf));
  } catch (const Error&) {
    failure_ = std::current_exception();
  }
}

void HeadWriter::put() {
  if (failure_) std::rethrow_exception(failure_);
  file_->put();
  if (!before_) before_ = place_.list(kHeadsFolder);
  std::vector<std::string> names = head_names(*before_);
  std::erase(names, name_);
  if (names.size() < kHeadsKept) return;
  // With what a write that was cut has left.
  std::string oldest = std::min(names[kHeadsKept - 2], name_).substr(0, kDigits);
  std::vector<std::string> older;
  for (const PlaceEntry& entry : *before_) {
    bool numbered = entry.name.size() > kDigits && is_number(entry.name.substr(0, kDigits));
    if (numbered && entry.name.substr(0, kDigits) < oldest) older.push_back(head_path(entry.name));
  }
  removed_if_allowed(place_, [&] { place_.remove_files(older); });
}

void write_head(Place& place, const Head& head, const SigningKey& key) {
  HeadWriter(place, head, key).put();
}

}  // namespace kestrum
