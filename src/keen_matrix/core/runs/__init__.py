"""What a run is, without a terminal: what is launched and where, which cases, and what comes of
them."""
