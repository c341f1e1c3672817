"""The work itself: specs, vectors, launches, checks, results. Nothing here prints or reads
options."""
