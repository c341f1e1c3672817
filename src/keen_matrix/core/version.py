"""The version: below everything, so that what writes it into a file need not import the package."""

VERSION = "0.1.0"
