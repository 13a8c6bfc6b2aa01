// The program as it is, but for what a passphrase costs: a second and 256 MB for each key that is
// derived, of which the tests derive thousands.
#include "kestrum/crypto/age_header.h"
#include "program.h"
#include "support/cheap_scrypt.h"

int main(int argc, char** argv) {
  kestrum::set_scrypt_log_written(kestrum::test::kCheapScrypt);
  return kestrum::cli::run_program(argc, argv);
}
