"""Insight: which expectations are weak, what failures share, how small a failing vector can be,
what was never tried.

Each module is a function of cases, outcomes and expectations; none of them prints.
"""
