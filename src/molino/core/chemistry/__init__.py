"""Chemistry: species, reaction equations, rate laws, rate constants."""
