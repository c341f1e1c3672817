"""Results that are written into specs: expectations that are filled in, and calls that were tried.

A spec is changed only where it must be, and read again before it is replaced.
"""
