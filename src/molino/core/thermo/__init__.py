"""Real gases and liquids."""
