"""The contract between vessels and all other modules: fields, specification and run results."""
