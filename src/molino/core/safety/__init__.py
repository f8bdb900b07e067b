"""Heat safety: cooling failure, hot spots, runaway criteria."""
