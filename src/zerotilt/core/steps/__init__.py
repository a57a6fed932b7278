"""Steps of a recipe that are meant to lessen a gap or a weakness: each declared in the file that computes it."""
