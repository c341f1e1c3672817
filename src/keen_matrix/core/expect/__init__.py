"""Expectations: which ones apply to a case, and whether its outcome meets them."""
