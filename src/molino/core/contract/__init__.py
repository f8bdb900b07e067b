"""The contract between vessels and everything else: fields, a specification, and what a run answers."""
