"""A report: one self-contained page, and running it again."""
