"""Static optimization."""
