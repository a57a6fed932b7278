"""The table itself: who is in it, what is missing, what knows too much."""
