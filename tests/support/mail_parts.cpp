#include "support/mail_parts.h"

#include "support/program.h"

namespace kestrum::test {

Json mail_parts(const std::string& content) {
  static const char* const kParser = R"(
import email, email.policy, json, sys
mail = email.message_from_bytes(sys.stdin.buffer.read(), policy=email.policy.SMTP)
parts = {'subject': mail['subject'], 'from': mail['from'], 'to': mail['to'], 'date': mail['date'],
         'id': mail['message-id'], 'text': None, 'html': None, 'attachments': {},
         'defects': [str(d) for part in mail.walk() for d in part.defects]}
for part in mail.walk():
    if part.is_multipart(): continue
    if part.get_filename(): parts['attachments'][part.get_filename()] = part.get_content()
    elif part.get_content_type() == 'text/plain': parts['text'] = part.get_content()
    elif part.get_content_type() == 'text/html': parts['html'] = part.get_content()
print(json.dumps(parts))
)";
  Ran ran = run_program({"python3", "-c", kParser}, {}, content);
  return Json::parse(ran.out, nullptr, false);
}

}  // namespace kestrum::test
