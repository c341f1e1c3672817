"""Results: the record of a case, the journal of them, and what is read back from it."""
