// What the keys of a job file mean, beyond their types.
#pragma once

#include <functional>
#include <map>
#include <optional>
#include <string>

#include "kestrum/job/job.h"

namespace kestrum {

// Takes a value over into the job; why it cannot, if so. May throw Error saying why.
using JobSetter = std::function<std::optional<std::string>(Job&, const KeyValue&)>;

// By "section.key". Keys without a setter are only kept.
const std::map<std::string, JobSetter>& job_setters();

}  // namespace kestrum
