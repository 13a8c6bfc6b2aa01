// Changing one key of a job file.
#pragma once

#include <string>

#include "kestrum/job/job_keys.h"

namespace kestrum {

// The text of a job file with one key ("source.folders") set to `value`; comments and order stay.
// Throws Error(kUsage) if the text is not TOML.
std::string edit_key(const std::string& text, const std::string& id, const KeyValue& value);

}  // namespace kestrum
