"""A spec as a document: what may be in its TOML, a file a table. Reading it finds every fault
at once.

Everything that can be judged from one value alone is judged here, texts of the notation and
expressions included. What needs two places at a time is lint's.
"""
