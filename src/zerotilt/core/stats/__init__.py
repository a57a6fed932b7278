"""Intervals, tests and estimates of numbers. It knows nothing of models, groups or tables."""
