"""The processes in which cases run, and the engine that feeds them.

Each case handed to a worker comes back once, with a result, whatever becomes of the worker: that is
for `engine` to see to. `wire` and `frames` are all that both sides share.
"""
