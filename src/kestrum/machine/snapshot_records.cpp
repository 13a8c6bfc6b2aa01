#include "kestrum/machine/snapshot_records.h"

#include <unistd.h>

#include "kestrum/base/file.h"
#include "kestrum/base/json.h"

namespace kestrum {

std::vector<SnapshotRecord> SnapshotRecords::all() const {
  std::vector<SnapshotRecord> records;
  if (!is_folder(folder_)) return records;
  for (const std::string& file : list_folder(folder_)) {
    if (!file.ends_with(".json")) continue;
    try {
      Json json = Json::parse(read_file(folder_ + "/" + file), nullptr, false);
      SnapshotRecord record{file.substr(0, file.size() - 5), "", "", ""};
      if (!json.is_object() || !get_name(json, "top", record.top, file)) continue;
      record.job = json_string(json, "job", file);
      record.name = json_string(json, "name", file);
      records.push_back(std::move(record));
    } catch (const Error&) {
      // Removed in between, or damaged: nothing is removed that nobody knows.
    }
  }
  return records;
}

void SnapshotRecords::put(const SnapshotRecord& record) const {
  Json json = {{"job", record.job}, {"name", record.name}};
  put_name(json, "top", record.top);
  make_folders(folder_);
  write_file(folder_ + "/" + record.id + ".json", json.dump() + "\n");
}

void SnapshotRecords::drop(const std::string& id) const {
  ::unlink((folder_ + "/" + id + ".json").c_str());
}

bool SnapshotRecords::was_told(const std::string& job) const {
  return path_exists(folder_ + "/" + job + ".told");
}

void SnapshotRecords::note_told(const std::string& job, const std::string& why) const {
  make_folders(folder_);
  write_file(folder_ + "/" + job + ".told", why + "\n");
}

}  // namespace kestrum
