"""Warm launches: Python programs that are forked from an interpreter which has imported what they
import.

A warm launch must show what a cold one does; `warmcheck` holds it to that, and whatever cannot be
promised is launched cold. The hooks for the tracers of `places` are here as well, since keepers
load them."""
