"""Reports from journals, in formats that other programs and people read."""
