"""Experiments: a program is asked with one call after another, and what that shows is evidence.

`ask` launches a vector and keeps the answer; `minimal` makes what fails as small as it can be, and
knows of no program; `forms` finds out what one usage accepts; `findings`, `evidence` and `edits`
say what was found, whether it was seen often enough to be stated, and what would state it in a
spec. Grounding, settling and narrowing stand on these. Nothing here decides by the clock."""
