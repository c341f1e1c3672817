"""Sentences for people: what a case, an aspect and a count are called on the terminal and in every
report."""
