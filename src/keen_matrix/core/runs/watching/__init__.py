"""Which files a program consists of, when they change, and which cases a change cannot touch.

A case is skipped only if nothing that its result follows from has changed; in doubt it is launched.
"""
