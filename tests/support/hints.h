// What the program prints for people to paste: commands in its output and in its errors.
//
// A hint begins with "kestrum" at the start of a line, behind a colon, a comma, a semicolon, a
// bracket, "or" or "then", and ends with its line, or where a delimiter that is not quoted follows:
// a semicolon, a comma, a closing bracket, a blank and an opening one, a full stop or question mark
// at the end.
#pragma once

#include <string>
#include <vector>

namespace kestrum::test {

std::vector<std::string> hints_in(const std::string& output);

// The words of a hint, as a shell would part them.
std::vector<std::string> words_of(const std::string& hint);

// Why a hint cannot be what somebody should paste: no such command, an option that the command does
// not have or that lacks its value, a name that is missing. By the program's own help. Empty if it
// can.
std::string why_no_command(const std::string& hint);

}  // namespace kestrum::test
