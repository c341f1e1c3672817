"""A program that says nothing of itself is watched: what its source compares its words with is
tried, alone and together, and what it does is written down as rows.

`source` reads the text, `candidates` makes words of it, `search` tries them, `rows` chooses what is
written.
"""
