"""One case: its values, tries with other values, its curves, cases like it, and what makes two of them differ."""
