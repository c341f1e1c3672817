"""From a validated document to the spec that runs: pure except for the files that axes and rows
name."""
