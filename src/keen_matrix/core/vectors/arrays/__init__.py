"""The parts of the covering-array generator: blocks of tuples, starts, growth, feasibility, shrinking."""
