"""The job file: TOML, checked by pydantic models and converted to core objects."""
