"""Where in a program the vectors go that failed."""
