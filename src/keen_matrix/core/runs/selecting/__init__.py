"""Which cases a run has, and in what order they come.

Cases are made as they are needed: nothing here may hold all of them at once.
"""
