"""The written audit: composed from evidence, rendered as one self-contained document."""
