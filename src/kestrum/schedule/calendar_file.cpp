#include "kestrum/schedule/calendar_file.h"

#include <libical/ical.h>

#include <cstdlib>

namespace kestrum {
namespace {

icaltimetype utc(Nanos time) {
  return icaltime_from_timet_with_zone(static_cast<time_t>(time / kSecond), 0,
                                       icaltimezone_get_utc_timezone());
}

}  // namespace

std::string calendar_text(const std::vector<CalendarEntry>& entries, Nanos now) {
  icalcomponent* calendar = icalcomponent_new_vcalendar();
  icalcomponent_add_property(calendar, icalproperty_new_version("2.0"));
  icalcomponent_add_property(calendar, icalproperty_new_prodid("-//Kestrum//agenda//EN"));
  for (const CalendarEntry& entry : entries) {
    icalcomponent* event = icalcomponent_new_vevent();
    icalcomponent_add_property(event, icalproperty_new_uid(entry.id.c_str()));
    icalcomponent_add_property(event, icalproperty_new_dtstamp(utc(now)));
    icalcomponent_add_property(event, icalproperty_new_dtstart(utc(entry.at)));
    icalcomponent_add_property(event, icalproperty_new_summary(entry.title.c_str()));
    icalcomponent_add_property(event, icalproperty_new_transp(ICAL_TRANSP_TRANSPARENT));
    icalcomponent_add_component(calendar, event);
  }
  char* text = icalcomponent_as_ical_string_r(calendar);
  std::string result = text;
  std::free(text);
  icalcomponent_free(calendar);
  return result;
}

}  // namespace kestrum
