"""Grounding: the accepted calls that derived cases are compared with are launched before them.

No derived case may run whose control was not seen to work; what was found is kept by the digest of
what it depends on.
"""
