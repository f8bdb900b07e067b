"""From rate law to reactor: size and compare."""
