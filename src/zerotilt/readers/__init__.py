"""Processes that read: one job each, with limits, in resident readers that hold what an open audit needs."""
