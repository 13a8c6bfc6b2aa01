#include "kestrum/mail/message.h"

#include <gtest/gtest.h>

#include "kestrum/base/error.h"
#include "kestrum/base/text.h"
#include "kestrum/base/units.h"
#include "kestrum/report/csv.h"
#include "support/mail_parts.h"

namespace kestrum::test {
namespace {

TEST(Header, IsPlainWhereItCanBeAndEncodedWhereItMust) {
  EXPECT_EQ(header_text("Kestrum: studio done on studio-pc"), "Kestrum: studio done on studio-pc");
  for (const std::string& text :
       {std::string("caf\xc3\xa9 done"),
        std::string("\xe6\x97\xa5\xe6\x9c\xac\xe8\xaa\x9e") + std::string(90, 'x'),
        std::string(300, 'y'), std::string("=?UTF-8?B?not?=")}) {
    std::string mail = "Subject: " + header_text(text) + "\r\n\r\n";
    Json parts = mail_parts(mail);
    EXPECT_EQ(parts["subject"], text);
    for (const std::string& line : split(mail, '\n')) EXPECT_LE(line.size(), 80U);
  }
}

TEST(Header, EndsWhereItIsToldTo) {
  std::string text = header_text("one\r\nBcc: thief@example.org\ntwo\x01");
  EXPECT_EQ(text, "one  Bcc: thief@example.org two ");
}

TEST(Header, HasADateAsTheStandardSays) {
  EXPECT_EQ(header_date(*parse_rfc3339("2026-03-02T21:00:05Z")), "Mon, 02 Mar 2026 21:00:05 +0000");
}

TEST(KeptMail, ComesBackAsItWas) {
  MailMessage mail{{"a@example.org", "b@example.org"},
                   "s\"ubject",
                   "te\nxt",
                   "<p>",
                   "p.html",
                   "page",
                   42,
                   "id@host"};
  MailMessage back = MailMessage::parse(mail.to_json(), "it");
  EXPECT_EQ(back.to_json(), mail.to_json());
  EXPECT_EQ(back.to, mail.to);
  EXPECT_EQ(back.made, 42);
  for (const char* broken : {"", "{", "[]", "{\"to\":3}", "{\"to\":[1]}"}) {
    EXPECT_THROW(MailMessage::parse(broken, "it"), Error) << broken;
  }
}

TEST(Addresses, AreOneMailboxAndNothingElse) {
  EXPECT_TRUE(is_mail_address("support@example.org"));
  for (const char* text : {"", "@", "a@", "@b", "a@b@c", "a b@c", "a@b\r\nBcc: c@d", "<a@b>",
                           "a@b,c@d", "-oops@b", "\"a\"@b"}) {
    EXPECT_FALSE(is_mail_address(text)) << text;
  }
}

TEST(Csv, QuotesWhatNeedsItAndStartsNoFormula) {
  EXPECT_EQ(csv_line({"a", "b,c", "d\"e", "f\ng", ""}), "a,\"b,c\",\"d\"\"e\",\"f\ng\",\r\n");
  EXPECT_EQ(csv_line({"=1+1", "-12.5", "-x", "@a", "+b"}), "'=1+1,-12.5,'-x,'@a,'+b\r\n");
}

}  // namespace
}  // namespace kestrum::test
