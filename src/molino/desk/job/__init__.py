"""The job file: TOML in, checked by pydantic models, into core objects."""
