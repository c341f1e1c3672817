"""Specs: the document as written, its reading with positions, and the compiled form that
everything else uses."""
