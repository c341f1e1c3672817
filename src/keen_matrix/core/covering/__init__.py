"""Covering arrays: rows in which every combination of values of so many axes appears. Pure:
numbers in, numbers out."""
