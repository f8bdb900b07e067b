"""Orders of reaction: integrated laws fitted to one measured concentration."""
