// Forgetting sets that were removed from the shelf.
#include "kestrum/machine/index.h"

namespace kestrum {

void Index::forget(const std::vector<SetId>& gone) {
  for (SetId set : gone) {
    auto& s = statement("DELETE FROM sets WHERE sequence = ?");
    s.bind(1, set.sequence());
    s.exec();
  }
}

void Index::sweep() {
  SQLite::Transaction transaction(*database_);
  // Where no set is left in between, a path ends as the last of its versions there did: so that it
  // is known what became of it by the next set that is left.
  database_->exec(
      "UPDATE version SET (until, ended) = (SELECT d.until, d.ended FROM version d"
      "   WHERE d.path = version.path AND d.first >= version.until AND d.until IS NOT NULL"
      "   AND NOT EXISTS (SELECT 1 FROM sets WHERE sequence >= version.until"
      "     AND sequence < d.until) ORDER BY d.until DESC LIMIT 1)"
      " WHERE until IS NOT NULL AND EXISTS (SELECT 1 FROM version d"
      "   WHERE d.path = version.path AND d.first >= version.until AND d.until IS NOT NULL"
      "   AND NOT EXISTS (SELECT 1 FROM sets WHERE sequence >= version.until"
      "     AND sequence < d.until))");
  // A version stays while a set that is left shows it.
  database_->exec(
      "DELETE FROM version WHERE NOT EXISTS (SELECT 1 FROM sets WHERE sequence >= version.first"
      " AND (version.until IS NULL OR sequence < version.until));"
      "DELETE FROM location WHERE set_sequence NOT IN (SELECT sequence FROM sets)"
      " OR NOT EXISTS (SELECT 1 FROM version WHERE id = location.version);"
      "DELETE FROM stretch WHERE set_sequence NOT IN (SELECT sequence FROM sets);"
      "DELETE FROM anchor WHERE set_sequence NOT IN (SELECT sequence FROM sets);"
      "DELETE FROM path WHERE NOT EXISTS (SELECT 1 FROM version WHERE version.path = path.id)");
  transaction.commit();
}

}  // namespace kestrum
