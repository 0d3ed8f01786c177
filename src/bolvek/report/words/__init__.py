"""Records in the preparer's words. Numbers come from the records; none is computed here beyond a change of unit."""
