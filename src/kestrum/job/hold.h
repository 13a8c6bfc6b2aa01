// Jobs of which nothing may be removed: a dispute, an audit.
#pragma once

#include "kestrum/job/job.h"

namespace kestrum {

// Throws Error(kUsage) with the reason if keep.hold says so.
void refuse_if_held(const Job& job);

}  // namespace kestrum
