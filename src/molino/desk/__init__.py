"""The interface besides Python: the only code that reads, writes, draws or prints."""
