"""Settling: what a signature leaves open is found out by experiments with the program, and written
into the spec, each finding with the vectors that show it.

`lab` launches, `findings` and `edits` are what comes of it, the steps find out, and `settle` has
them work one after another."""
