"""From axes and lines to vectors: values, combining, constraints, covering arrays, unfolding,
ids."""
