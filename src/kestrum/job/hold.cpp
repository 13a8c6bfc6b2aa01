#include "kestrum/job/hold.h"

#include "kestrum/base/error.h"
#include "kestrum/base/text.h"

namespace kestrum {

void refuse_if_held(const Job& job) {
  if (job.keep.hold.empty()) return;
  throw Error(ErrorKind::kUsage, job.name + " is held: " + printable(job.keep.hold),
              "nothing of it is removed until keep.hold is empty: kestrum job edit " + job.name)
      .about_job(job.name);
}

}  // namespace kestrum
