"""Judging a vector: what a conforming program does with it, in passes from values to values.

1. *Reading* (`reading`): words become options with their values, and operands.
2. *Resolving* (`resolving`): the options that are there settle which alternatives of the synopsis
   are taken. What is left is a pattern of operands.
3. *Matching* (`matching`): the operands run through that pattern, in all its readings at once, the
   fullest first.
4. *Binding* (`binding`): values are checked by their types, bound to their NAMEs, and the
   conditions of the signature are asked.

Each pass returns what it found beside its result: reasons to turn the vector down, and what the
signature does not settle (`findings`). `judge` puts them together.
"""
