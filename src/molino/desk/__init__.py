"""What a person touches besides Python: the only place that reads, writes, draws or prints."""
