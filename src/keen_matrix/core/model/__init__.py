"""Values that all parts share."""
