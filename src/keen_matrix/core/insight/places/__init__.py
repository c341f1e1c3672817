"""Where in a program the vectors go that did not hold."""
