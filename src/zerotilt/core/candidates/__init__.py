"""Candidates: models trained here, validated on rows that they were not trained on, and compared with what is only luck."""
