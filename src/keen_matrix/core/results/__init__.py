"""Results: the record of a case, the journal that holds them, and what is read back from it."""
