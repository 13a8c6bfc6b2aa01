#include "kestrum/machine/run_report.h"

#include "kestrum/base/text.h"
#include "kestrum/base/units.h"

namespace kestrum {

const char* outcome_name(Outcome outcome) {
  switch (outcome) {
    case Outcome::kDone:
      return "done";
    case Outcome::kDoneWithWarnings:
      return "done with warnings";
    case Outcome::kFailed:
      return "failed";
    case Outcome::kStopped:
      return "stopped";
    case Outcome::kSkipped:
      return "skipped";
  }
  return "failed";
}

void RunReport::add_warning(const std::string& path, const std::string& because) {
  ++warning_count;
  if (warnings.size() < kWarningLimit) warnings.push_back({path, because});
}

void RunReport::warn_after_end(const std::string& because) {
  add_warning("", because);
  if (outcome != Outcome::kDone) return;
  outcome = Outcome::kDoneWithWarnings;
  exit = 1;
}

Json RunReport::to_json() const {
  auto or_null = [](const auto& value, auto&& text) {
    return value ? Json(text(*value)) : Json(nullptr);
  };
  auto set_text = [](SetId id) { return id.to_string(); };
  Json json;
  json["run"] = run;
  json["job"] = job;
  json["host"] = host;
  json["started"] = format_rfc3339(started);
  json["finished"] = format_rfc3339(finished);
  json["trigger"] = trigger;
  json["outcome"] = outcome_name(outcome);
  json["exit"] = exit;
  json["reason"] = reason.empty() ? Json(nullptr) : Json(printable(reason));
  json["set"] = or_null(set, set_text);
  json["kind"] = or_null(kind, kind_name);
  json["based_on"] = or_null(based_on, set_text);
  json["continued"] = continued;
  json["suspect"] = suspect;
  json["suspect_why"] = suspect_why.empty() ? Json(nullptr) : Json(suspect_why);
  json["suspect_since"] = or_null(suspect_since, set_text);
  json["no_pruning"] = no_pruning.empty() ? Json(nullptr) : Json(printable(no_pruning));
  json["files"] = {{"seen", files.seen},         {"copied", files.copied}, {"moved", files.moved},
                   {"same", files.same},         {"gone", files.gone},     {"absent", files.absent},
                   {"left_out", files.left_out}, {"failed", files.failed}};
  json["bytes"] = {{"seen", bytes.seen}, {"copied", bytes.copied}, {"stored", bytes.stored}};
  json["kept"] = {{"parts", kept_parts}, {"bytes", kept_bytes}};
  json["seconds"] = seconds;
  json["warnings"] = Json::array();
  for (const Warning& warning : warnings) {
    Json item;
    put_name(item, "path", warning.path);
    item["reason"] = printable(warning.reason);
    json["warnings"].push_back(item);
  }
  json["pruned"] = pruned;
  json["away"] = nullptr;
  if (away) {
    json["away"] = Json::array();
    for (const AwayFolder& folder : *away) {
      Json item = {{"since", format_rfc3339(folder.since)}, {"may_be_at", nullptr}};
      put_name(item, "path", folder.path);
      if (!folder.may_be_at.empty()) put_name(item, "may_be_at", folder.may_be_at);
      json["away"].push_back(std::move(item));
    }
  }
  json["shelf"] = nullptr;
  if (shelf) {
    auto time = [](Nanos t) { return t == 0 ? Json(nullptr) : Json(format_rfc3339(t)); };
    json["shelf"] = {{"restore_points", shelf->restore_points},
                     {"newest", time(shelf->newest)},
                     {"oldest", time(shelf->oldest)},
                     {"stored_bytes", shelf->stored_bytes},
                     {"free_bytes", shelf->free_bytes ? Json(*shelf->free_bytes) : Json(nullptr)}};
    put_name(json["shelf"], "path", shelf->path);
  }
  return json;
}

}  // namespace kestrum
