"""Descriptions of a program's own parser: taken from it (`hook`), checked (`described`), and
brought into our notation (`translated`)."""
