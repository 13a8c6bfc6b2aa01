#include "kestrum/report/mail_book.h"

#include "kestrum/base/error.h"
#include "kestrum/base/file.h"
#include "kestrum/base/json.h"
#include "kestrum/shelf/document.h"

namespace kestrum {
namespace {

constexpr const char* kMailBookFormat = "kestrum-mail";

}  // namespace

std::map<std::string, MailTold> MailBook::load() const {
  std::map<std::string, MailTold> told;
  std::string state_path = state_folder_ + "/told.json";
  try {
    if (!path_exists(state_path)) return told;
    Json json = parse_document(read_file(state_path), kMailBookFormat, state_path);
    for (const auto& [job, item] : json_member(json, "jobs", state_path).items()) {
      std::uint64_t level = json_uint(item, "level", state_path);
      told[job] = {json_string(item, "what", state_path), json_int(item, "when", state_path),
                   level > 2 ? StatusLevel::kCritical : static_cast<StatusLevel>(level)};
    }
  } catch (const Error&) {
    told.clear();  // one mail too many is better than none
  }
  return told;
}

void MailBook::note(const std::map<std::string, MailTold>& told) const {
  std::map<std::string, MailTold> all = load();
  for (const auto& [job, what] : told) all[job] = what;
  Json json = new_document(kMailBookFormat);
  json["jobs"] = Json::object();
  for (const auto& [job, what] : all) {
    json["jobs"][job] = {
        {"what", what.what}, {"when", what.when}, {"level", static_cast<unsigned>(what.level)}};
  }
  make_folders(state_folder_);
  std::string state_path = state_folder_ + "/told.json";
  write_file(state_path, json.dump(2, ' ', false, Json::error_handler_t::replace) + "\n");
}

}  // namespace kestrum
