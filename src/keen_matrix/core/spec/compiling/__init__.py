"""From a validated document to the spec that runs: pure but for the files that axes and rows
name."""
