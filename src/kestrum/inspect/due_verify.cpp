#include "kestrum/inspect/due_verify.h"

#include <fmt/format.h>

#include "kestrum/base/error.h"
#include "kestrum/base/text.h"
#include "kestrum/base/units.h"
#include "kestrum/inspect/verify.h"
#include "kestrum/inspect/verify_some.h"

namespace kestrum {
namespace {

std::string as_sealed(std::size_t damaged, bool lacks_disk) {
  return (damaged == 0 ? "as the seals say" : counted(damaged, "place") + " DAMAGED") +
         (lacks_disk ? "; what lies on disks that are not plugged in was passed over" : "");
}

// Whether a look at the whole, or a round of parts, began and did not come to its end.
bool is_under_way(const OpenShelf& open) {
  return open.state && open.state->record.verify_round.began != 0;
}

void remember_round(OpenShelf& open, const VerifyRound& round) {
  if (!open.state) return;
  open.state->update_record([&](ShelfRecord& record) { record.verify_round = round; });
}

DueVerifyResult verify_whole(OpenShelf& open, const DueVerifyRequest& request, Observer& observer) {
  VerifyRound round;
  round.began = calendar_now();
  remember_round(open, round);
  VerifyRequest whole;
  whole.set_back = request.set_back;
  whole.stop = request.stop;
  VerifyResult result;
  try {
    result = verify_shelf(open, {}, whole, observer);
  } catch (const Error& error) {
    if (error.kind() != ErrorKind::kStopped) throw;
    return {true, 0, ""};
  }
  remember_round(open, {});
  return {false, result.damage.size(),
          fmt::format("{}, {}: {}", counted(result.sets, "set"), counted(result.parts, "part"),
                      as_sealed(result.damage.size(), !result.away.empty()))};
}

}  // namespace

DueVerifyResult verify_when_due(OpenShelf& open, const DueVerifyRequest& request,
                                Observer& observer) {
  if (request.percent >= 100 && !is_under_way(open)) return verify_whole(open, request, observer);
  VerifySomeRequest some;
  some.percent = request.percent;
  some.stop = request.stop;
  VerifySomeResult result = verify_some(open, some, observer);
  bool cut = result.stopped && request.stop && request.stop();
  return {cut, result.damage.size(),
          fmt::format("{} of {}: {}", format_size(result.bytes), format_size(result.all_bytes),
                      as_sealed(result.damage.size(), result.lacks_disk))};
}

}  // namespace kestrum
